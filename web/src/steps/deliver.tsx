import { useQuery } from "@tanstack/react-query";
import { enc, get, type Schedule } from "../api/client";
import { Select, Setting, Text } from "../ui/parts";
import { span } from "../ui/time";
import { Chip, Expression, errorAt, type FormProps, Pairs, type StepView, withSetting } from "./kit";

type Retry = {
  first?: string;
  growth?: string;
  factor?: number;
  cap?: string;
  spread?: string;
  tries?: number;
  within?: string;
  [k: string]: unknown;
};

/** The settings of a retry plan, with its whole schedule. */
export function RetryForm({
  value,
  onChange,
  errors,
}: {
  value: Retry;
  onChange: (r: Retry) => void;
  errors: (setting: string) => string | undefined;
}) {
  const put = (name: string, v: string) => {
    const { [name]: _, ...rest } = value;
    onChange(v === "" ? rest : { ...rest, [name]: name === "tries" || name === "factor" ? Number(v) : v });
  };
  const query = Object.entries(value)
    .filter(([, v]) => typeof v !== "object")
    .map(([k, v]) => `${k}=${enc(String(v))}`)
    .join("&");
  const schedule = useQuery({
    queryKey: ["schedule", query],
    retry: false,
    placeholderData: (old: Schedule | undefined) => old,
    queryFn: () => get<Schedule>(`/api/v1/schedule?${query}`),
  });
  const box = (name: string, label: string, placeholder: string) => (
    <Setting inline label={label} error={errors(name)}>
      <Text
        mono
        label={label}
        value={String(value[name] ?? "")}
        placeholder={placeholder}
        onChange={(v) => put(name, v)}
        invalid={!!errors(name)}
      />
    </Setting>
  );
  return (
    <div>
      <div className="mb-2 flex flex-wrap gap-2">
        {box("first", "First pause", "5s")}
        <Setting inline label="Growth">
          <Select
            label="Growth"
            value={value.growth ?? "exponential"}
            onChange={(v) => put("growth", v)}
            options={["constant", "linear", "exponential"]}
          />
        </Setting>
        {(value.growth ?? "exponential") === "exponential" && box("factor", "Factor", "2")}
        {box("cap", "Longest pause", "10m")}
        <Setting inline label="Spread">
          <Select
            label="Spread"
            value={value.spread ?? "full"}
            onChange={(v) => put("spread", v)}
            options={["none", "equal", "full"]}
          />
        </Setting>
        {box("tries", "Tries", "6")}
        {box("within", "Within", "24h")}
      </div>
      {schedule.error ? (
        <p role="alert" className="text-dead">
          {schedule.error.message}
        </p>
      ) : (
        schedule.data && (
          <p className="text-quiet" data-testid="schedule">
            {schedule.data.tries.length} tries:{" "}
            {schedule.data.tries
              .slice(0, 12)
              .map((t) =>
                t.try === 1
                  ? "at once"
                  : t.earliest === t.latest
                    ? `after ${span(t.latest)}`
                    : t.earliest === 0
                      ? `within ${span(t.latest)}`
                      : `${span(t.earliest)} to ${span(t.latest)}`,
              )
              .join(", ")}
            {schedule.data.tries.length > 12 && ", …"}; then dead letter, {span(schedule.data.ends.latest)} after the
            first try at the latest
          </p>
        )
      )}
    </div>
  );
}

function Form(p: FormProps) {
  const inside = typeof p.step.to === "object" && p.step.to !== null;
  const kind = !inside ? "connection" : p.step.to.topic !== undefined ? "topic" : "queue";
  const toQueue = kind === "queue";
  const label = { connection: "Connection", queue: "Queue", topic: "Topic" }[kind];
  const target = inside ? String(p.step.to[kind] ?? "") : String(p.step.to ?? "");
  const setTarget = (v: string) => p.change(withSetting(p.step, "to", inside ? { ...p.step.to, [kind]: v } : v), "to");
  const setQueue = (name: string, v: string) => {
    const { [name]: _, ...rest } = p.step.to as Record<string, unknown>;
    p.change(withSetting(p.step, "to", v === "" ? rest : { ...rest, [name]: v }), `to/${name}`);
  };
  const queueBox = (name: string, label: string, placeholder: string, hint: string) => (
    <Setting inline label={label} hint={hint} error={errorAt(p, `to/${name}`)}>
      <Text
        mono
        label={label}
        value={String(p.step.to[name] ?? "")}
        placeholder={placeholder}
        onChange={(v) => setQueue(name, v)}
        invalid={!!errorAt(p, `to/${name}`)}
      />
    </Setting>
  );
  const choices = { connection: p.names.connections, queue: p.names.queues, topic: p.names.topics }[kind];
  const retry = (p.step.retry ?? null) as Retry | null;
  return (
    <div className="p-3">
      <div className="flex gap-2">
        <Setting inline label="To">
          <Select
            label="Kind of target"
            value={kind}
            onChange={(v) => {
              const { method: _m, path: _p, retry: _r, ...rest } = p.step;
              const to = {
                queue: { queue: p.names.queues[0] ?? "queue" },
                topic: { topic: p.names.topics[0] ?? "topic" },
              };
              p.change(
                v === "queue" || v === "topic"
                  ? ({ ...rest, to: to[v] } as typeof p.step)
                  : withSetting(p.step, "to", p.names.connections[0] ?? "connection"),
                "",
              );
            }}
            options={[
              ["connection", "a connection"],
              ["queue", "a queue: one reader gets it"],
              ["topic", "a topic: every subscription gets it"],
            ]}
          />
        </Setting>
        <Setting inline label={label} error={errorAt(p, "to") ?? errorAt(p, `to/${kind}`)}>
          <Text label={label} mono value={target} onChange={setTarget} list="targets" />
          <datalist id="targets">
            {choices.map((c) => (
              <option key={c} value={c} />
            ))}
          </datalist>
        </Setting>
        {!inside && (
          <Setting inline label="Method">
            <Select
              label="Method"
              value={p.step.method ?? "POST"}
              onChange={(v) => p.change(withSetting(p.step, "method", v), "method")}
              options={["POST", "PUT", "PATCH", "DELETE", "GET"]}
            />
          </Setting>
        )}
      </div>
      {toQueue && (
        <div className="flex gap-2">
          {queueBox("priority", "Priority", "4", "an expression from 0 to 9; the higher are taken first")}
          {queueBox("expires", "Expires after", "never", "waiting longer makes it a dead letter")}
        </div>
      )}
      {!inside && (
        <Expression
          {...p}
          label="Path"
          setting="path"
          template
          optional
          hint="below the connection's address; text with ${…}"
        />
      )}
      <Pairs {...p} label="Headers" setting="headers" template nameHint="x-header" />
      {!inside && (
        <Setting label="Retry plan" error={errorAt(p, "retry")}>
          <label className="mb-1 flex items-center gap-1.5">
            <input
              type="checkbox"
              checked={retry !== null}
              onChange={(e) =>
                p.change(withSetting(p.step, "retry", e.target.checked ? { first: "5s", tries: 6 } : undefined), "")
              }
            />
            its own, instead of the connection's
          </label>
          {retry && (
            <RetryForm
              value={retry}
              onChange={(r) => p.change(withSetting(p.step, "retry", r), "retry")}
              errors={(s) => errorAt(p, `retry/${s}`)}
            />
          )}
        </Setting>
      )}
    </div>
  );
}

export const deliver: StepView = {
  verb: "Deliver",
  sentence: (s) =>
    typeof s.to === "object" && s.to?.topic !== undefined ? (
      <>
        to topic <Chip>{s.to.topic}</Chip>
      </>
    ) : typeof s.to === "object" && s.to ? (
      <>
        to queue <Chip>{s.to.queue}</Chip>
        {s.to.priority !== undefined && `, priority ${s.to.priority}`}
        {s.to.expires && `, expires after ${s.to.expires}`}
      </>
    ) : (
      <>
        {s.method ?? "POST"} <Chip>{String(s.to)}</Chip> {s.path ?? ""}
        {s.retry?.tries ? `, ${s.retry.tries} tries` : ""}
      </>
    ),
  Form,
  begin: () => ({ to: "connection", method: "POST", path: "/" }),
};
