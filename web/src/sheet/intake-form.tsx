import { toast } from "sonner";
import type { Connection, Draft, Finding, Sample } from "../api/client";
import { Code, type Completion } from "../ui/code";
import { Select, Setting, Text } from "../ui/parts";
import { update } from "./edit";
import type { FlowDocument, Intake } from "./model";
import { ClockState, PollForm, TimingForm } from "./timed";

type Props = {
  doc: FlowDocument;
  findings: Finding[];
  flow: Draft;
  connections: Connection[];
  sample: Sample | undefined;
  completions: Completion[];
  onChange: (doc: FlowDocument, mark: string) => void;
};

export function IntakeForm(p: Props) {
  const intake = p.doc.intake;
  const put = (part: Partial<Intake>, mark: string) =>
    p.onChange(
      update(p.doc, ["intake"], (i: Intake) =>
        Object.fromEntries(Object.entries({ ...i, ...part }).filter(([, v]) => v !== undefined && v !== "")),
      ),
      `intake${mark}`,
    );
  const error = (setting: string) => {
    const f = p.findings.find((f) => f.pointer === `/intake/${setting}` || f.pointer.startsWith(`/intake/${setting}/`));
    return f && f.message + (f.repair ? `; ${f.repair}` : "");
  };
  const expression = (label: string, setting: "once" | "reference" | "order", hint: string) => (
    <Setting label={label} hint={hint} error={error(setting)}>
      <Code
        label={label}
        language="expression"
        value={intake[setting] ?? ""}
        onChange={(v) => put({ [setting]: v || undefined }, setting)}
        completions={p.completions}
        invalid={!!error(setting)}
      />
    </Setting>
  );
  const limits = (intake.limits ?? {}) as Record<string, number>;
  const callers = p.connections.filter((c) => c.kind === "caller").map((c) => c.name);
  return (
    <div className="p-3">
      <div className="flex gap-2">
        <Setting inline label="Title">
          <Text
            label="Title of the flow"
            value={p.doc.title ?? ""}
            onChange={(title) => p.onChange({ ...p.doc, title }, "title")}
          />
        </Setting>
        {intake.kind === "webhook" ? (
          <>
            <Setting inline label="Path below /in" error={error("path")}>
              <Text
                mono
                label="Path below /in"
                value={intake.path ?? ""}
                onChange={(path) => put({ path }, "path")}
                invalid={!!error("path")}
              />
            </Setting>
            <Setting inline label="Who may call" error={error("callers")}>
              <Select
                label="Who may call"
                value={intake.callers?.[0] ?? ""}
                onChange={(v) => put({ callers: v ? [v] : undefined }, "callers")}
                options={[
                  ["", "anyone"],
                  ...[...new Set([...callers, ...(intake.callers ?? [])])].map((c): [string, string] => [c, c]),
                ]}
              />
            </Setting>
          </>
        ) : intake.kind !== "queue" && intake.kind !== "topic" ? null : (
          <>
            {intake.kind === "queue" ? (
              <Setting inline label="Queue" error={error("queue")}>
                <Text mono label="Queue" value={intake.queue ?? ""} onChange={(queue) => put({ queue }, "queue")} />
              </Setting>
            ) : (
              <>
                <Setting inline label="Topic" error={error("topic")}>
                  <Text mono label="Topic" value={intake.topic ?? ""} onChange={(topic) => put({ topic }, "topic")} />
                </Setting>
                <Setting inline label="Subscription" error={error("subscription")}>
                  <Text
                    mono
                    label="Subscription"
                    placeholder={p.doc.name}
                    value={intake.subscription ?? ""}
                    onChange={(subscription) => put({ subscription }, "subscription")}
                  />
                </Setting>
              </>
            )}
            <Setting inline label="At once" error={error("in-flight")}>
              <Text
                mono
                type="number"
                label="At once"
                value={String(intake["in-flight"] ?? 4)}
                onChange={(v) => put({ "in-flight": Number(v) || undefined }, "in-flight")}
              />
            </Setting>
          </>
        )}
      </div>
      {["schedule", "poll", "table"].includes(intake.kind) && (
        <>
          {intake.kind !== "schedule" && <PollForm intake={intake} put={put} error={error} />}
          <TimingForm intake={intake} put={put} error={error} />
          <ClockState flow={p.doc.name} />
        </>
      )}
      {intake.kind === "webhook" && (
        <div className="flex gap-2">
          <Setting inline label="The caller is answered" error={error("answer")}>
            <Select
              label="The caller is answered"
              value={String(intake.answer ?? "stored")}
              onChange={(v) => put(v === "stored" ? { answer: undefined, wait: undefined } : { answer: v }, "answer")}
              options={[
                ["stored", "once the message is stored"],
                ["finished", "when it is finished, or a step answers"],
              ]}
            />
          </Setting>
          {intake.answer === "finished" && (
            <Setting inline label="Kept waiting" hint="then it gets 202" error={error("wait")}>
              <Text
                mono
                label="Kept waiting"
                placeholder="30s"
                value={String(intake.wait ?? "")}
                onChange={(wait) => put({ wait }, "wait")}
              />
            </Setting>
          )}
        </div>
      )}
      <label className="mb-3 flex items-center gap-1.5">
        <input
          type="checkbox"
          checked={!!p.doc["on-dead-letter"]}
          onChange={(e) => {
            const { "on-dead-letter": _, ...rest } = p.doc;
            p.onChange(e.target.checked ? { ...rest, "on-dead-letter": { steps: [] } } : rest, "");
          }}
        />
        run steps once for each dead letter of this flow: tell somebody, open a ticket
      </label>
      {intake.kind === "webhook" && <Request {...p} />}
      {intake.kind === "topic" && (
        <Begin value={intake.begin} onChange={(begin) => put({ begin }, "begin")} error={error("begin")} />
      )}
      <div className={["schedule", "poll", "table"].includes(intake.kind) ? "hidden" : "flex items-end gap-2"}>
        <Setting inline label="Format" error={error("format")}>
          <Select
            label="Format of the messages"
            value={intake.format ?? "auto"}
            onChange={(v) => put({ format: v === "auto" ? undefined : v }, "format")}
            options={[["auto", "by Content-Type"], "json", "xml", "csv", "hl7", "form", "text", "binary"]}
          />
        </Setting>
        {(intake.format === "csv" || intake.header !== undefined || intake.delimiter !== undefined) && (
          <>
            <Setting inline label="Delimiter" error={error("delimiter")}>
              <Text
                mono
                label="Delimiter"
                placeholder=","
                value={String(intake.delimiter ?? "")}
                onChange={(delimiter) => put({ delimiter: delimiter || undefined }, "delimiter")}
              />
            </Setting>
            <label className="mb-4 flex flex-[2] items-center gap-1.5">
              <input
                type="checkbox"
                checked={!!intake.header}
                onChange={(e) => put({ header: e.target.checked || undefined }, "header")}
              />
              the first row names the columns
            </label>
          </>
        )}
      </div>
      <details className={["schedule", "poll", "table"].includes(intake.kind) ? "hidden" : "mb-2.5"}>
        <summary className="head cursor-pointer">Limits</summary>
        <div className="mt-2 flex gap-2">
          {intake.kind === "webhook" && (
            <Setting inline label="Largest body" hint="bytes" error={error("limit")}>
              <Text
                mono
                type="number"
                label="Largest body"
                placeholder="1048576"
                value={String(intake.limit ?? "")}
                onChange={(v) => put({ limit: Number(v) || undefined }, "limit")}
              />
            </Setting>
          )}
          {(
            [
              ["depth", "Nesting", "512"],
              ["values", "Values", "2000000"],
            ] as const
          ).map(([name, label, usual]) => (
            <Setting key={name} inline label={label} hint="at most" error={error(`limits/${name}`)}>
              <Text
                mono
                type="number"
                label={label}
                placeholder={usual}
                value={String(limits[name] ?? "")}
                onChange={(v) => {
                  const next = Object.fromEntries(
                    Object.entries({ ...limits, [name]: Number(v) || undefined }).filter(([, n]) => n !== undefined),
                  );
                  put({ limits: Object.keys(next).length ? next : undefined }, `limits${name}`);
                }}
              />
            </Setting>
          ))}
        </div>
      </details>
      {expression("Once per", "once", "messages with the same value within 24 hours are the same message")}
      {expression("Reference", "reference", "what people search by")}
      {expression("Order", "order", "deliveries of equal value keep their order, per target")}
    </div>
  );
}

/** Where a new subscription begins to read its topic. */
function Begin({
  value,
  onChange,
  error,
}: {
  value: Intake["begin"];
  onChange: (b: Intake["begin"]) => void;
  error?: string;
}) {
  const kind =
    typeof value === "object" ? ("offset" in value ? "offset" : "time") : value === "latest" ? "latest" : "earliest";
  const at = typeof value === "object" ? value : {};
  return (
    <div className="flex gap-2">
      <Setting
        inline
        label="A new subscription begins"
        hint="published once, a subscription keeps its place"
        error={error}
      >
        <Select
          label="A new subscription begins"
          value={kind}
          onChange={(k) =>
            onChange(
              k === "latest"
                ? "latest"
                : k === "time"
                  ? { time: new Date().toISOString().slice(0, 19).concat("Z") }
                  : k === "offset"
                    ? { offset: 0 }
                    : undefined,
            )
          }
          options={[
            ["earliest", "with the oldest message kept"],
            ["latest", "with what is put from then on"],
            ["time", "at a time"],
            ["offset", "at an offset"],
          ]}
        />
      </Setting>
      {kind === "time" && (
        <Setting inline label="Time" hint="such as 2026-05-04T09:00:00Z">
          <Text mono label="Time" value={at.time ?? ""} onChange={(time) => onChange({ time })} invalid={!!error} />
        </Setting>
      )}
      {kind === "offset" && (
        <Setting inline label="Offset" hint="they count from 0">
          <Text
            mono
            type="number"
            label="Offset"
            value={String(at.offset ?? 0)}
            onChange={(v) => onChange({ offset: Math.max(0, Math.trunc(Number(v) || 0)) })}
          />
        </Setting>
      )}
    </div>
  );
}

const types: Record<string, string> = {
  xml: "application/xml",
  csv: "text/csv",
  hl7: "application/hl7-v2",
  form: "application/x-www-form-urlencoded",
  text: "text/plain",
  binary: "application/octet-stream",
};

/** A ready-made request for whoever will call. */
function Request({ doc, connections, sample, flow }: Props) {
  const intake = doc.intake;
  const path = (intake.path ?? "").replace(/\{(\w+)\}/g, (_, n: string) => encodeURIComponent(sample?.params[n] ?? n));
  const lines = [
    `curl -i -X ${intake.methods?.[0] ?? "POST"} '${window.location.origin}/in${path}'`,
    `-H 'content-type: ${sample?.headers["content-type"] ?? types[intake.format ?? "json"] ?? "application/json"}'`,
  ];
  const caller = connections.find((c) => c.name === intake.callers?.[0]);
  const signIn = caller?.document["sign-in"] as { kind?: string; header?: string; user?: string } | undefined;
  const variable = caller?.name.toUpperCase().replace(/[^A-Z0-9]+/g, "_");
  if (signIn?.kind === "api-key") lines.push(`-H "${signIn.header ?? "x-api-key"}: $${variable}"`);
  if (signIn?.kind === "basic") lines.push(`-u "${signIn.user}:$${variable}"`);
  const once = /headers\["([\w-]+)"\]/.exec(intake.once ?? "")?.[1];
  if (once) lines.push(`-H "${once}: $(date +%s%N)"`);
  lines.push(`--data-binary '${(sample?.body ?? "{}").replaceAll("'", "'\\''")}'`);
  const curl = lines.join(" \\\n  ");
  return (
    <Setting
      label={flow.live ? "Call it" : "Call it; until it is published, messages are kept as samples"}
      hint={
        variable
          ? `put the caller's key into ${variable} first; keys are never shown here${caller?.document.note ? `. ${caller.document.note}` : ""}`
          : undefined
      }
    >
      <div className="relative border border-line bg-sheet">
        <pre
          className="data max-h-32 overflow-auto p-2 pr-16 whitespace-pre-wrap"
          data-testid="curl"
          role="region"
          aria-label="A ready-made request"
          tabIndex={0}
        >
          {curl}
        </pre>
        <button
          type="button"
          className="btn absolute top-1 right-1 !px-2"
          onClick={() =>
            navigator.clipboard.writeText(curl).then(
              () => toast("The request is copied"),
              () => toast.error("The browser did not let the request be copied; mark it and copy it by hand"),
            )
          }
        >
          Copy
        </button>
      </div>
    </Setting>
  );
}
