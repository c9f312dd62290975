import { useState } from "react";
import { toast } from "sonner";
import { type Connection, call, type Draft, enc, type Finding, type Sample } from "../api/client";
import { queryClient } from "../api/queries";
import { update } from "../model/edit";
import type { FlowDocument, Intake } from "../model/model";
import { useFlowPart, useIntakeSchema, useSystems } from "../systems";
import { type Override, SchemaForm } from "../systems/form";
import { settingsOf, type Value } from "../systems/schema";
import type { Completion } from "../ui/code";
import { Select, Setting, says, Text } from "../ui/parts";
import { ClockState, TimingForm } from "./timed";

type Props = {
  doc: FlowDocument;
  findings: Finding[];
  flow: Draft;
  connections: Connection[];
  sample: Sample | undefined;
  completions: Completion[];
  onChange: (doc: FlowDocument, mark: string) => void;
};

const timed = ["schedule", "poll", "table"];
const limiting = ["limit", "limits", "strict"];
const telling = ["once", "once-for", "reference", "order"];

export function IntakeForm(p: Props) {
  const intake = p.doc.intake;
  const schema = useIntakeSchema(intake.kind);
  const outside = useSystems().data?.some((s) => s.kind === intake.kind && s.intake);
  const set = (next: Value, mark: string) =>
    p.onChange(
      update(p.doc, ["intake"], () => next),
      `intake${mark}`,
    );
  const put = (part: Partial<Intake>, mark: string) =>
    set(
      Object.fromEntries(Object.entries({ ...intake, ...part }).filter(([, v]) => v !== undefined && v !== "")),
      mark,
    );
  const error = (setting: string) => {
    const f = p.findings.find((f) => f.pointer === `/intake/${setting}` || f.pointer.startsWith(`/intake/${setting}/`));
    return f && f.message + (f.repair ? `; ${f.repair}` : "");
  };
  const callers = p.connections.filter((c) => c.kind === "caller").map((c) => c.name);
  const Callers: Override = ({ value, onChange, error }) => (
    <WhoMayCall
      known={callers}
      chosen={(value ?? []) as string[]}
      onChange={(v) => onChange(v.length ? v : undefined)}
      error={error("callers")}
    />
  );
  const BeginAt: Override = ({ value, onChange, error }) => (
    <Begin value={value as Intake["begin"]} onChange={onChange} error={error("begin")} />
  );
  const all = settingsOf(schema).map(([name]) => name);
  const part = (names: string[]) =>
    schema && (
      <SchemaForm
        schema={schema}
        value={intake as Value}
        onChange={set}
        error={error}
        omit={all.filter((n) => !names.includes(n))}
        completions={p.completions}
        connections={p.connections.filter((c) => c.kind !== "caller").map((c) => c.name)}
        offersOf={outside || intake.kind === "table" ? String(intake.of ?? "") : undefined}
        overrides={intake.kind === "topic" ? { callers: Callers, begin: BeginAt } : { callers: Callers }}
      />
    );
  const clocked = timed.includes(intake.kind) ? ["cron", "every", "zone", "missed"] : [];
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
      </div>
      {part(all.filter((n) => ![...limiting, ...telling, ...clocked, "kind", "note", "methods"].includes(n)))}
      {((outside && intake.kind !== "tcp") || intake.kind === "table") && <TakeSample flow={p.doc.name} />}
      {timed.includes(intake.kind) && (
        <>
          <TimingForm intake={intake} put={put} error={error} />
          <ClockState flow={p.doc.name} />
        </>
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
      {limiting.some((n) => all.includes(n)) && (
        <details className="mb-2.5">
          <summary className="head cursor-pointer">Limits</summary>
          <div className="mt-2">{part(limiting)}</div>
        </details>
      )}
      {part(telling)}
      <Keeping {...p} />
    </div>
  );
}

/** How long messages are kept, and how many the flow takes. */
function Keeping(p: Props) {
  const retain = useFlowPart("retain");
  const bounds = useFlowPart("bounds");
  const weight = useFlowPart("weight");
  if (!retain || !bounds || !weight) return null;
  const put = (name: "retain" | "limits", value: Value, mark: string) => {
    const { [name]: _, ...rest } = p.doc;
    p.onChange(Object.keys(value).length ? { ...p.doc, [name]: value } : (rest as FlowDocument), `${name}${mark}`);
  };
  const error = (pointer: string) => {
    const f = p.findings.find((f) => f.pointer === pointer);
    return f && f.message + (f.repair ? `; ${f.repair}` : "");
  };
  return (
    <details className="mb-2.5" open={!!(p.doc.retain || p.doc.limits || p.doc.weight) || undefined}>
      <summary className="head cursor-pointer">Kept, and how much is taken</summary>
      <div className="mt-2">
        <div className="flex flex-wrap gap-2">
          <Setting inline label="Kept for" hint="days behind its end; dead letters stay" error={error("/retain/days")}>
            <Select
              label="Kept for"
              value={String(p.doc.retain?.days ?? "")}
              onChange={(v) => {
                const { days: _, ...rest } = p.doc.retain ?? {};
                put("retain", v ? { ...rest, days: v === "forever" ? v : Number(v) } : rest, "days");
              }}
              options={keptFor(p.doc.retain?.days, p.flow.keepsAll)}
            />
          </Setting>
          <Sized
            label="Kept at most"
            hint="such as 10GiB"
            value={p.doc.retain?.bytes}
            error={error("/retain/bytes")}
            onChange={(v) => {
              const { bytes: _, ...rest } = p.doc.retain ?? {};
              put("retain", v ? { ...rest, bytes: v } : rest, "bytes");
            }}
          />
        </div>
        <SchemaForm
          schema={bounds}
          value={(p.doc.limits ?? {}) as Value}
          onChange={(v, mark) => put("limits", v, mark)}
          error={(s) => error(`/limits/${s}`)}
          omit={["bytes"]}
        />
        <div className="flex flex-wrap gap-2">
          <Sized
            label="Bytes a second"
            hint="that are taken, such as 1MiB"
            value={p.doc.limits?.bytes}
            error={error("/limits/bytes")}
            onChange={(v) => {
              const { bytes: _, ...rest } = p.doc.limits ?? {};
              put("limits", v ? { ...rest, bytes: v } : rest, "bytes");
            }}
          />
          <Setting inline label="Weight" hint="beside other flows; 1 when empty" error={error("/weight")}>
            <Text
              label="Weight"
              value={String(p.doc.weight ?? "")}
              onChange={(v) => {
                const { weight: _, ...rest } = p.doc;
                p.onChange(v ? { ...p.doc, weight: Number(v) } : rest, "weight");
              }}
            />
          </Setting>
        </div>
      </div>
    </details>
  );
}

/** The spans that are offered, with the one that stands there. */
function keptFor(days: number | "forever" | undefined, all: boolean): [string, string][] {
  const offered: [string, string][] = [
    ["", all ? "forever, as in earlier releases" : "30 days"],
    ...(all ? [["30", "30 days"] as [string, string]] : []),
    ["1", "1 day"],
    ["7", "7 days"],
    ["90", "90 days"],
    ["365", "a year"],
    ["forever", "forever"],
  ];
  return days === undefined || offered.some(([v]) => v === String(days))
    ? offered
    : [...offered, [String(days), `${days} days`]];
}

function Sized(p: {
  label: string;
  hint: string;
  value: string | number | undefined;
  error: string | undefined;
  onChange: (v: string) => void;
}) {
  return (
    <Setting inline label={p.label} hint={p.hint} error={p.error}>
      <Text label={p.label} value={String(p.value ?? "")} onChange={p.onChange} />
    </Setting>
  );
}

/** Takes one message of the source as a sample, as it comes. */
function TakeSample({ flow }: { flow: string }) {
  const [waits, setWaits] = useState<AbortController | null>(null);
  const take = async () => {
    const stop = new AbortController();
    setWaits(stop);
    try {
      const { value } = await call<Sample>(`/api/v1/flows/${enc(flow)}/take-sample`, {
        method: "POST",
        signal: stop.signal,
      });
      toast.success(`${value.name} is a sample now; nothing was consumed`);
      await queryClient.invalidateQueries({ queryKey: ["flows", flow, "samples"] });
    } catch (e) {
      if (!stop.signal.aborted) toast.error(says(e));
    }
    setWaits(null);
  };
  return (
    <p className="mb-3">
      {waits ? (
        <>
          waiting for a message{" "}
          <button type="button" className="btn-bare" onClick={() => waits.abort()}>
            stop
          </button>
        </>
      ) : (
        <button type="button" className="btn-bare" onClick={take}>
          take one as a sample
        </button>
      )}
    </p>
  );
}

/** The callers that may call; choosing one keeps the others. */
function WhoMayCall(p: { known: string[]; chosen: string[]; onChange: (v: string[]) => void; error?: string }) {
  const all = [...new Set([...p.known, ...p.chosen])];
  return (
    <Setting label="Who may call" hint={p.chosen.length ? undefined : "anyone"} error={p.error}>
      <fieldset className="flex flex-wrap gap-x-4 gap-y-1" aria-label="Who may call">
        {all.map((name) => (
          <label key={name} className="flex items-center gap-1.5">
            <input
              type="checkbox"
              checked={p.chosen.includes(name)}
              onChange={(e) => p.onChange(all.filter((n) => (n === name ? e.target.checked : p.chosen.includes(n))))}
            />
            {name}
          </label>
        ))}
        {all.length === 0 && <span className="text-quiet">there is no connection of a caller yet</span>}
      </fieldset>
    </Setting>
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
