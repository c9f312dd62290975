import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import type { Connection, Draft, Finding, Reference, Rehearsal, Sample } from "../api/client";
import { at, update } from "../model/edit";
import { entriesOf, entryOf, type FlowDocument, type Row, type Step, type Way } from "../model/model";
import { viewOf } from "../steps";
import { Pairs, ThenSetting } from "../steps/kit";
import { useUsual } from "../systems";
import { Code, type Completion } from "../ui/code";
import { Document } from "../ui/document";
import { Setting, Text } from "../ui/parts";
import { paths } from "../ui/tree";
import { IntakeForm } from "./intake-form";
import { SendSample, unsent } from "./send-sample";
import { Answer, LookedUp, Seen, Sent } from "./shown";

type Props = {
  doc: FlowDocument;
  row: Row;
  sample: Sample | undefined;
  rehearsal: Rehearsal | undefined;
  findings: Finding[];
  reference: Reference | undefined;
  connections: Connection[];
  queues: string[];
  topics: string[];
  tables: string[];
  flow: Draft;
  onChange: (doc: FlowDocument, mark: string) => void;
  onAdd: () => void;
  onRemove: () => void;
};

/** For the focused cell: the message before, the step's settings, the message after. */
export function Desk(p: Props) {
  const { row } = p;
  const fill = useRef<((path: string) => void) | null>(null);
  const [hoverField, setHoverField] = useState<string | null>(null);
  const [hoverBefore, setHoverBefore] = useState<string | null>(null);
  const [hoverAfter, setHoverAfter] = useState<string | null>(null);
  const [nth, setNth] = useState(0);
  const key = row.kind === "way" ? row.routeKey : row.key;
  const several = entriesOf(p.rehearsal, key);
  const shownNth = Math.min(nth, several.length - 1);
  const entry = entryOf(p.rehearsal, key, nth);
  const accepted = p.rehearsal?.intake.outcome === "accepted";
  const received = accepted ? p.rehearsal?.intake.body : p.sample && { format: "text", text: p.sample.body };
  const before = row.kind === "intake" ? received : entry?.before;
  const after = row.kind === "intake" ? (accepted ? received : undefined) : entry?.after;
  const fields = entry?.fields ?? [];
  const used = entry?.reads ?? [];
  const changed =
    entry && entry.before?.text !== entry.after?.text ? fields.filter((f) => f.outcome === "set").map((f) => f.to) : [];
  const litField =
    hoverField ??
    fields.find((f) => hoverAfter?.startsWith(f.to))?.to ??
    fields.find((f) => hoverBefore !== null && hoverBefore !== "" && f.reads.includes(hoverBefore))?.to ??
    null;
  const litBefore = fields.find((f) => f.to === litField)?.reads ?? [];
  const completions = useMemo<Completion[]>(() => {
    const tree = before?.tree ?? before?.text;
    const body = tree === undefined ? [] : paths(tree).map((label) => ({ label, detail: "here" }));
    const seen = (entry?.names ?? []).flatMap((n) => paths(n.json, n.name).map((label) => ({ label, detail: "here" })));
    const names = p.reference?.names.map((n) => ({ label: n.name, detail: n.text })) ?? [];
    const functions = p.reference?.functions.map((f) => ({ label: `${f.name}(`, detail: f.signature })) ?? [];
    const params = Object.keys(p.sample?.params ?? {}).map((n) => ({ label: `params.${n}` }));
    const headers = Object.keys(p.sample?.headers ?? {}).map((n) => ({ label: `headers["${n}"]` }));
    return [...body, ...seen, ...names.filter((n) => n.label !== "body"), ...params, ...headers, ...functions];
  }, [before?.text, before?.tree, entry?.names, p.reference, p.sample]);
  const onFill = useCallback((f: ((path: string) => void) | null) => {
    fill.current = f;
  }, []);
  const [height, setHeight] = useState(() => Math.min(380, Math.round(window.innerHeight * 0.44)));
  useEffect(() => {
    const onResize = () => setHeight((h) => Math.min(h, Math.round(window.innerHeight * 0.7)));
    window.addEventListener("resize", onResize);
    return () => window.removeEventListener("resize", onResize);
  }, []);
  const drag = (e: React.PointerEvent) => {
    const from = e.clientY;
    const tall = height;
    const onMove = (m: PointerEvent) =>
      setHeight(Math.max(140, Math.min(window.innerHeight - 240, tall + from - m.clientY)));
    const end = () => window.removeEventListener("pointermove", onMove);
    window.addEventListener("pointermove", onMove);
    window.addEventListener("pointerup", end, { once: true });
  };
  const sends = row.kind === "step" && row.step.kind === "deliver";
  const title =
    row.kind === "intake" ? "Intake" : row.kind === "way" ? `Way ${row.way.name}` : viewOf(row.step.kind).verb;
  return (
    <section
      aria-label="Desk"
      className="grid shrink-0 grid-cols-[3fr_4fr_3fr] grid-rows-[0_minmax(0,1fr)] border-t-2 border-deep"
      style={{ height }}
    >
      <div className="relative col-span-3 h-0">
        <div className="absolute -top-1.5 h-2 w-full cursor-row-resize" onPointerDown={drag} />
      </div>
      <div className="flex min-h-0 min-w-0 flex-col border-r border-line bg-sheet">
        <h2 className="pane-head bg-paper">
          {row.kind === "intake" ? "As it comes in" : `Before step ${row.n}`}{" "}
          <span className="min-w-0 flex-1 truncate font-normal text-quiet">{p.sample?.name ?? "no sample"}</span>
          {row.kind === "intake" && p.sample && p.flow.live > 0 && !unsent.includes(p.doc.intake.kind) && (
            <SendSample flow={p.doc.name} sample={p.sample.name} />
          )}
          {several.length > 1 && (
            <span className="flex shrink-0 items-baseline gap-1.5" data-testid="part">
              <button
                type="button"
                className="btn-bare"
                aria-label="The part before"
                disabled={shownNth === 0}
                onClick={() => setNth(shownNth - 1)}
              >
                ‹
              </button>
              {nthOf(entry?.path ?? "", shownNth, several.length)}
              <button
                type="button"
                className="btn-bare"
                aria-label="The next part"
                disabled={shownNth === several.length - 1}
                onClick={() => setNth(shownNth + 1)}
              >
                ›
              </button>
            </span>
          )}
        </h2>
        <div className="min-h-0 flex-1 overflow-auto" data-testid="before">
          {p.sample ? (
            before || row.kind === "intake" ? (
              <>
                {entry?.names
                  ?.filter((n) => n.name === "part" || n.name === "group")
                  .map((n) => (
                    <Seen key={n.name} name={n.name} json={n.json} open onPick={(path) => fill.current?.(path)} />
                  ))}
                <Document
                  body={before}
                  used={used}
                  lit={litBefore}
                  onPick={(path) => fill.current?.(path)}
                  onHover={setHoverBefore}
                />
                {entry?.names
                  ?.filter((n) => n.name !== "part" && n.name !== "group")
                  .map((n) => (
                    <Seen key={n.name} name={n.name} json={n.json} onPick={(path) => fill.current?.(path)} />
                  ))}
              </>
            ) : (
              <p className="p-3 text-quiet">This sample does not get here. {p.rehearsal?.reason}</p>
            )
          ) : (
            <p className="p-3 text-quiet">
              Add a sample with “+ sample”: paste a real message, and every step shows what it does to it.
            </p>
          )}
        </div>
      </div>
      <div className="flex min-h-0 min-w-0 flex-col border-r border-line" data-testid="settings">
        <h2 className="pane-head">
          {title}
          <span className="min-w-0 flex-1 truncate font-normal text-quiet">
            {row.kind === "step" && row.step.kind === "map" ? "click a value on the left to fill the marked row" : ""}
          </span>
          <button type="button" className="btn-bare" onClick={p.onAdd}>
            add below
          </button>
          {row.kind !== "intake" && !(row.kind === "way" && row.otherwise && !row.fixed) && (
            <button type="button" className="btn-bare" onClick={p.onRemove}>
              remove
            </button>
          )}
        </h2>
        <div className="min-h-0 flex-1 overflow-auto" data-form>
          {row.kind === "intake" && (
            <IntakeForm
              doc={p.doc}
              findings={p.findings}
              flow={p.flow}
              connections={p.connections}
              sample={p.sample}
              completions={completions}
              onChange={p.onChange}
            />
          )}
          {row.kind === "way" && <WayForm {...p} row={row} completions={completions} onFill={onFill} />}
          {row.kind === "step" && (
            <StepForm
              {...p}
              row={row}
              completions={completions}
              onFill={onFill}
              entry={entry}
              litField={litField}
              onHoverField={setHoverField}
            />
          )}
        </div>
      </div>
      <div className="flex min-h-0 min-w-0 flex-col bg-sheet">
        <h2 className="pane-head bg-paper">
          {row.kind === "intake" ? "What the caller gets" : sends ? `Sent by step ${row.n}` : `After step ${row.n}`}{" "}
          <span className="font-normal text-quiet">
            {row.kind !== "intake" && !sends && after?.format ? `as ${after.format.toUpperCase()}` : ""}
          </span>
        </h2>
        <div className="min-h-0 flex-1 overflow-auto" data-testid="after">
          {entry?.error && (
            <p role="alert" className="m-3 border-l-4 border-dead bg-loss px-3 py-2">
              {entry.error}
            </p>
          )}
          {row.kind === "intake" ? (
            <Answer rehearsal={p.rehearsal} />
          ) : sends ? (
            <Sent rehearsal={p.rehearsal} path={entry?.path ?? row.key} />
          ) : (
            !entry?.error &&
            after && (
              <>
                <LookedUp looked={entry?.looked} />
                <Document body={after} changed={changed} lit={litField ? [litField] : []} onHover={setHoverAfter} />
              </>
            )
          )}
        </div>
      </div>
    </section>
  );
}

/** Which of several parts, or of several groups, is looked at. */
function nthOf(path: string, nth: number, all: number): string {
  const part = /\[(\d+)\][./][^[]*$/.exec(path)?.[1];
  return part === undefined ? `${nth + 1} of ${all}` : `part ${Number(part) + 1}`;
}

type FormExtra = { completions: Completion[]; onFill: (f: ((path: string) => void) | null) => void };

function StepForm(
  p: Props &
    FormExtra & {
      row: Extract<Row, { kind: "step" }>;
      entry: ReturnType<typeof entryOf>;
      litField: string | null;
      onHoverField: (to: string | null) => void;
    },
) {
  const step = at(p.doc, p.row.place) as Step;
  const { Form } = viewOf(step.kind);
  const usual = useUsual(step.kind);
  const change = (next: Step, mark: string) =>
    p.onChange(
      update(p.doc, p.row.place, () => next),
      mark && p.row.pointer + mark,
    );
  return (
    <>
      <Form
        step={step}
        change={change}
        findings={p.findings}
        pointer={p.row.pointer}
        entry={p.entry}
        completions={p.completions}
        usual={usual}
        onFill={p.onFill}
        litField={p.litField}
        onHoverField={p.onHoverField}
        names={{
          connections: p.connections.filter((c) => c.kind !== "caller").map((c) => c.name),
          kinds: Object.fromEntries(p.connections.map((c) => [c.name, c.kind])),
          queues: p.queues,
          topics: p.topics,
          tables: p.tables,
          flow: p.doc.name,
        }}
      />
      <details className="border-t border-line px-3 py-1.5">
        <summary className="head cursor-pointer">Id, title, condition, what if it fails, note</summary>
        <div className="mt-2 flex gap-2">
          <Setting inline label="Id" error={p.findings.find((f) => f.pointer === `${p.row.pointer}/id`)?.message}>
            <LazyText label="Id" value={step.id} onCommit={(id) => change({ ...step, id }, "")} />
          </Setting>
          <Setting inline label="Title">
            <Text
              label="Title"
              value={step.title ?? ""}
              onChange={(title) => change({ ...step, title: title || undefined }, "title")}
            />
          </Setting>
        </div>
        <Setting label="Only if" error={p.findings.find((f) => f.pointer === `${p.row.pointer}/when`)?.message}>
          <Code
            label="Only if"
            language="expression"
            value={String(step.when ?? "")}
            onChange={(when) => change({ ...step, when: when || undefined }, "when")}
            completions={p.completions}
          />
        </Setting>
        {!["validate", "filter", "aggregate", "resequence"].includes(step.kind) && (
          <CatchSetting {...p} step={step} change={change} pointer={p.row.pointer} />
        )}
        <Setting label="Note">
          <textarea
            aria-label="Note"
            className="field"
            rows={2}
            value={step.note ?? ""}
            onChange={(e) => change({ ...step, note: e.target.value || undefined }, "note")}
          />
        </Setting>
      </details>
    </>
  );
}

/** What becomes of a message whose step fails. */
function CatchSetting(
  p: Pick<Props, "findings"> & FormExtra & { step: Step; change: (next: Step, mark: string) => void; pointer: string },
) {
  const v = p.step.else as undefined | "skip" | "dead letter" | { default?: object; steps?: Step[]; then?: string };
  const kind = typeof v === "object" ? (v.steps ? "steps" : "default") : v === "skip" ? "skip" : "dead letter";
  const choose = (k: string) => {
    const { else: _, ...rest } = p.step;
    const next: Record<string, unknown> = {
      skip: "skip",
      default: { default: { value: '""' } },
      steps: { steps: [{ id: `${p.step.id}-failed`, kind: "note", text: "${caught.reason}" }] },
    };
    p.change(k === "dead letter" ? (rest as Step) : ({ ...rest, else: next[k] } as Step), "");
  };
  return (
    <>
      <Setting
        label="If it fails"
        error={p.findings.find((f) => f.pointer === `${p.pointer}/else`)?.message}
        hint={kind === "steps" ? "the steps stand below; in them caught is what failed" : undefined}
      >
        <select aria-label="If it fails" className="field" value={kind} onChange={(e) => choose(e.target.value)}>
          <option value="dead letter">the message is a dead letter</option>
          <option value="skip">it is skipped, and the message goes on</option>
          <option value="default">values stand in for what it would have set</option>
          <option value="steps">other steps run in its place</option>
        </select>
      </Setting>
      {kind === "steps" && <ThenSetting step={p.step} change={p.change} />}
      {kind === "default" && (
        <Pairs
          {...(p as unknown as Parameters<typeof Pairs>[0])}
          step={(v ?? {}) as unknown as Step}
          change={(next, mark) => p.change({ ...p.step, else: { default: next.default ?? {} } }, mark)}
          pointer={`${p.pointer}/else`}
          label="Values that stand in"
          setting="default"
          nameHint="name"
        />
      )}
    </>
  );
}

/** A text that counts when the person leaves it: an id half typed would lose its row. */
function LazyText({ label, value, onCommit }: { label: string; value: string; onCommit: (v: string) => void }) {
  const [own, setOwn] = useState(value);
  const commit = () => own !== value && /^[A-Za-z0-9][A-Za-z0-9_-]*$/.test(own) && onCommit(own);
  return (
    <input
      aria-label={label}
      className="field data"
      value={own}
      aria-invalid={!/^[A-Za-z0-9][A-Za-z0-9_-]*$/.test(own) || undefined}
      onChange={(e) => setOwn(e.target.value)}
      onBlur={commit}
      onKeyDown={(e) => e.key === "Enter" && commit()}
    />
  );
}

function WayForm(p: Props & FormExtra & { row: Extract<Row, { kind: "way" }> }) {
  const { row } = p;
  if (row.split)
    return (
      <p className="p-3 text-quiet">
        The steps below run once for each part. In them <span className="data">part</span> is the item,{" "}
        <span className="data">index</span> counts from 0 and <span className="data">last</span> tells the last one. Add
        the first of them with “add below”.
      </p>
    );
  if (row.fixed === "else")
    return (
      <p className="p-3 text-quiet">
        The steps below run when <span className="data">{row.route.id}</span> fails, in its place; then the message{" "}
        {(row.route.else as { then?: string } | undefined)?.then === "go on"
          ? "goes on behind it"
          : "ends, turned away with the reason"}
        . In them <span className="data">caught</span> is what failed: step, kind, class, reason.
      </p>
    );
  if (row.fixed === "dead")
    return (
      <p className="p-3 text-quiet">
        The steps below run once for each dead letter of this flow, on the message as it came in. In them{" "}
        <span className="data">letter</span> is about it: reason, step, reference, class, transaction, at. Should they
        fail, that is a dead letter that nobody is told of: they cannot loop.
      </p>
    );
  if (row.otherwise)
    return (
      <p className="p-3 text-quiet">
        Takes what no other way takes. Add steps below, so that nothing ends without a word.
      </p>
    );
  const way = at(p.doc, row.place) as Way;
  const error = p.findings.find((f) => f.pointer === `${row.pointer}/when`);
  const put = (part: Partial<Way>, mark: string) =>
    p.onChange(
      update(p.doc, row.place, () => ({ ...way, ...part })),
      row.pointer + mark,
    );
  return (
    <div className="p-3">
      <Setting label="Name" error={p.findings.find((f) => f.pointer === `${row.pointer}/name`)?.message}>
        <LazyText label="Name" value={way.name} onCommit={(name) => put({ name }, "name")} />
      </Setting>
      {row.route.kind === "scatter" ? (
        <p className="text-quiet">
          The steps below work on a copy of the message. What their last delivery is answered, or the body that a step
          behind it makes, is <span className="data">replies.{way.name}</span> behind the scatter.
        </p>
      ) : (
        <Setting label="Taken when" error={error && error.message + (error.repair ? `; ${error.repair}` : "")}>
          <div onFocus={() => p.onFill((path) => put({ when: path }, "when"))}>
            <Code
              label="Taken when"
              language="expression"
              value={String(way.when ?? "")}
              onChange={(when) => put({ when }, "when")}
              completions={p.completions}
              invalid={!!error}
            />
          </div>
        </Setting>
      )}
    </div>
  );
}
