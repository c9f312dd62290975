import { useState } from "react";
import { useSystems } from "../systems";
import { SchemaForm } from "../systems/form";
import { settingsOf, type Value } from "../systems/schema";
import { Code } from "../ui/code";
import { Select, Setting, Text } from "../ui/parts";
import {
  Chip,
  Choose,
  Count,
  Expression,
  errorAt,
  type FormProps,
  NamedList,
  Pairs,
  SpanSetting,
  type StepView,
  withSetting,
} from "./kit";
import { QueryBuilder } from "./query-builder";
import { StepRetry } from "./retry";
import { fitting } from "./table-columns";

const kindOf = (s: FormProps["step"]) => (s.sql !== undefined ? "sql" : typeof s.of === "object" ? "queue" : "http");

/** The kinds of system that are asked in their own way, as their schemas have it. */
const useOthers = () => (useSystems().data ?? []).filter((s) => s.ask && s.kind !== "http" && s.kind !== "sql");

/** The system that has what a step says and HTTP has not. */
function ownOf(step: Value, others: ReturnType<typeof useOthers>) {
  const says = Object.keys(step).filter((n) => !common.includes(n));
  return says.length === 0
    ? undefined
    : others.find((s) => says.every((n) => settingsOf(s.ask).some(([name]) => name === n)));
}
const common = ["id", "kind", "title", "note", "when", "off", "else", "of", "retry", "headers", "body"];

function Form(p: FormProps) {
  const others = useOthers();
  const [building, setBuilding] = useState(false);
  const own = typeof p.step.of === "string" ? ownOf(p.step as Value, others) : undefined;
  const kind = own?.kind ?? kindOf(p.step);
  const of = p.step.of as string | { queue: string; "reply-to"?: string };
  const put = (name: string, v: unknown, mark = name) => p.change(withSetting(p.step, name, v), mark);
  const choose = (k: string) => {
    const { id, kind: step, title, note, when, off, else: caught } = p.step;
    const kept = Object.fromEntries(
      Object.entries({ id, kind: step, title, note, when, off, else: caught }).filter(([, v]) => v !== undefined),
    );
    const next: Record<string, object> = {
      http: { of: p.names.connections[0] ?? "connection", path: "/" },
      sql: { of: "database", sql: "SELECT * FROM t WHERE id = :id", params: { id: "body.id" }, rows: "one" },
      queue: { of: { queue: p.names.queues[0] ?? "queue" }, within: "30s" },
    };
    const other = others.find((s) => s.kind === k);
    if (other) {
      const of = p.names.connections.find((c) => p.names.kinds[c] === k) ?? "connection";
      const required = (other.ask?.required ?? []).map((name) => [name, String(name)]);
      next[k] = { of, ...Object.fromEntries(required) };
    }
    p.change({ ...kept, ...next[k] } as FormProps["step"], "");
  };
  return (
    <div className="p-3">
      <div className="flex gap-2">
        <Setting inline label="Asked">
          <Select
            label="Asked"
            value={kind}
            onChange={choose}
            options={[
              ["http", "over HTTP"],
              ["sql", "by an SQL query"],
              ["queue", "by a queue, with a reply"],
              ...others.map((s): [string, string] => [s.kind, `over ${s.title}`]),
            ]}
          />
        </Setting>
        {typeof of === "object" ? (
          <>
            <Setting inline label="Queue" error={errorAt(p, "of/queue") ?? errorAt(p, "of")}>
              <Text
                mono
                label="Queue"
                list="queues"
                value={of.queue}
                onChange={(queue) => put("of", { ...of, queue })}
              />
            </Setting>
            <Setting inline label="Replies come in" error={errorAt(p, "of/reply-to")}>
              <Text
                mono
                label="Replies come in"
                placeholder={`${of.queue}.replies`}
                value={of["reply-to"] ?? ""}
                onChange={(v) => put("of", v ? { ...of, "reply-to": v } : { queue: of.queue })}
              />
            </Setting>
            <SpanSetting {...p} setting="within" label="Waited for" />
            <NamedList id="queues" names={p.names.queues} />
          </>
        ) : (
          <>
            <Setting inline label="Connection" error={errorAt(p, "of")}>
              <Text mono label="Connection" list="connections" value={of} onChange={(v) => put("of", v)} />
            </Setting>
            <NamedList id="connections" names={p.names.connections} />
            {kind === "http" && (
              <Choose
                {...p}
                inline
                label="Method"
                setting="method"
                options={["GET", "POST", "PUT", "PATCH", "DELETE"]}
              />
            )}
          </>
        )}
      </div>
      {!("queue" in Object(of)) && (
        <label className="mb-2 flex items-center gap-1.5">
          <input
            type="checkbox"
            checked={p.step.harmless === true}
            onChange={(e) => p.change(withSetting(p.step, "harmless", e.target.checked || undefined), "")}
          />
          asking changes nothing there, so it may be tried for real with a sample
        </label>
      )}
      {kind === "sql" && (
        <>
          {building && (
            <QueryBuilder
              connection={String(of)}
              onClose={() => setBuilding(false)}
              onWritten={(sql, names) => {
                const had = (p.step.params ?? {}) as Record<string, unknown>;
                const params = Object.fromEntries(names.map((n) => [n, had[n] ?? fitting(n, p.completions) ?? '""']));
                const { params: _, ...rest } = p.step;
                p.change({ ...rest, sql, ...(names.length ? { params } : {}) } as FormProps["step"], "");
                setBuilding(false);
              }}
            />
          )}
          <button type="button" className="btn-bare float-right" onClick={() => setBuilding(true)}>
            choose tables and columns
          </button>
          <Setting label="Statement" hint=":name stands for a parameter; values are bound" error={errorAt(p, "sql")}>
            <Code
              key={`${p.pointer}/sql`}
              label="Statement"
              language="writing"
              value={String(p.step.sql ?? "")}
              onChange={(v) => put("sql", v)}
              completions={[]}
              invalid={!!errorAt(p, "sql")}
            />
          </Setting>
          <Pairs {...p} label="Parameters" setting="params" nameHint="name" />
          <div className="flex gap-2">
            <Choose
              {...p}
              inline
              label="The answer is"
              setting="rows"
              options={[
                ["many", "the list of rows"],
                ["one", "exactly one row"],
                ["first", "the first row, or null"],
              ]}
            />
            <Count {...p} setting="most" label="Most rows" />
          </div>
        </>
      )}
      {kind === "http" && (
        <Expression {...p} label="Path" setting="path" template optional hint="below the connection's address" />
      )}
      {own?.ask && (
        <SchemaForm
          schema={own.ask}
          value={p.step as Value}
          onChange={(v, mark) => p.change(v as typeof p.step, mark)}
          error={(s) => errorAt(p, s)}
          completions={p.completions}
          onFill={p.onFill}
          offersOf={String(p.step.of ?? "")}
          omit={["headers"]}
        />
      )}
      {kind !== "sql" && (
        <>
          <Expression
            {...p}
            optional
            label="What is sent"
            setting="body"
            hint={
              kind === "http"
                ? "an expression, sent as JSON; nothing by default"
                : "an expression, sent as JSON; the present message by default"
            }
          />
          <Pairs {...p} label="Headers" setting="headers" template nameHint="x-header" />
        </>
      )}
      {kind !== "queue" && <StepRetry {...p} />}
    </div>
  );
}

/** A question in the way of its system: the connection, and what must be said. */
function AskOther({ step }: { step: Value }) {
  const own = ownOf(step, useOthers());
  const said = (own?.ask?.required ?? []).map((name) => String(step[name] ?? "")).filter((v) => v !== "");
  return (
    <>
      <Chip>{String(step.of)}</Chip> {said.join(" ")}
    </>
  );
}

export const ask: StepView = {
  verb: "Ask",
  sentence: (s, usual) => {
    const kind = kindOf(s);
    if (kind === "http" && s.path === undefined && s.method === undefined) return <AskOther step={s as Value} />;
    if (kind === "queue")
      return (
        <>
          by queue <Chip>{s.of.queue}</Chip>, for a reply within {s.within ?? usual("within")}
        </>
      );
    return (
      <>
        <Chip>{String(s.of)}</Chip>{" "}
        {kind === "sql" ? (
          <span className="data">{String(s.sql).slice(0, 80)}</span>
        ) : (
          `${s.method ?? usual("method")} ${s.path ?? ""}`
        )}
      </>
    );
  },
  Form,
  begin: () => ({ of: "", path: "/" }),
};
