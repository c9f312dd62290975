import { useState } from "react";
import type { Connection, Draft, Finding, Reference, Rehearsal, Sample } from "../api/client";
import type { Earlier } from "../model/earlier";
import { at, update } from "../model/edit";
import type { entryOf, FlowDocument, Place, Row, Step } from "../model/model";
import { viewOf } from "../steps";
import { Pairs, ThenSetting } from "../steps/kit";
import { ConditionEditor } from "../steps/mapping/condition";
import { valueAt } from "../steps/mapping/use-map";
import { useUsual } from "../systems";
import type { Completion } from "../ui/code";
import { type Mend, Setting, Text } from "../ui/parts";
import type { Lacking } from "./lacking";

/** What the desk shows and changes. */
export type DeskProps = {
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
  /** The row that is looked at is another already, so nothing is done here. */
  behind: boolean;
  onAdd: () => void;
  onRemove: () => void;
  /** Gives the step another id, and writes it wherever it is named. */
  onRename: (place: Place, id: string) => void;
  onMend: (m: Mend) => void;
  /** What no sample does here, and how one is made that does. */
  unreached: { text: string; onMake: () => void }[];
  /** Puts the steps of the flow that a step hands to in its place. */
  onInline: () => void;
  /** Makes what the step names and there is not. */
  onMake: (lacking: Lacking) => void;
};

/** What a form of the desk needs besides: completions, and where a path that is pointed at goes. */
export type FormExtra = { completions: Completion[]; onFill: (f: ((path: string) => void) | null) => void };

/** The settings of a step, and those that every step has. */
export function StepForm(
  p: DeskProps &
    FormExtra & {
      row: Extract<Row, { kind: "step" }>;
      entry: ReturnType<typeof entryOf>;
      litField: string | null;
      onHoverField: (to: string | null) => void;
      picked: string | null;
      onPicked: (path: string | null) => void;
      onMapped: (expressions: string[]) => void;
      onLit: (expressions: string[]) => void;
      looked: string | null;
      earlier: Earlier[];
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
      <div className={step.kind === "map" ? "min-h-0 flex-1" : "contents"}>
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
          picked={p.picked}
          onPicked={p.onPicked}
          onMapped={p.onMapped}
          onLit={p.onLit}
          looked={p.looked}
          earlier={p.earlier}
          headers={p.sample?.headers}
          names={{
            connections: p.connections.filter((c) => c.kind !== "caller").map((c) => c.name),
            kinds: Object.fromEntries(p.connections.map((c) => [c.name, c.kind])),
            queues: p.queues,
            topics: p.topics,
            tables: p.tables,
            flow: p.doc.name,
          }}
        />
      </div>
      <details className="max-h-[60%] shrink-0 overflow-auto border-t border-line px-3 py-1.5">
        <summary className="head cursor-pointer">Id, title, condition, what if it fails, note</summary>
        <div className="mt-2 flex gap-2">
          <Setting inline label="Id" error={p.findings.find((f) => f.pointer === `${p.row.pointer}/id`)?.message}>
            <LazyText label="Id" value={step.id} onCommit={(id) => p.onRename(p.row.place, id)} />
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
          <ConditionEditor
            key={p.row.pointer}
            label="Only if"
            value={String(step.when ?? "")}
            onChange={(when) => change({ ...step, when: when || undefined }, "when")}
            completions={p.completions}
            valueOf={valueAt(p.entry)}
            onFill={p.onFill}
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
  p: Pick<DeskProps, "findings"> &
    FormExtra & { step: Step; change: (next: Step, mark: string) => void; pointer: string },
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
export function LazyText({
  label,
  value,
  taken,
  onCommit,
}: {
  label: string;
  value: string;
  /** What others are called. */
  taken?: string[];
  onCommit: (v: string) => void;
}) {
  const [own, setOwn] = useState(value);
  const good = /^[A-Za-z0-9][A-Za-z0-9_-]*$/.test(own);
  const free = own === value || !taken?.includes(own);
  const commit = () => own !== value && good && free && onCommit(own);
  return (
    <>
      <input
        aria-label={label}
        className="field data"
        value={own}
        aria-invalid={!good || !free || undefined}
        onChange={(e) => setOwn(e.target.value)}
        onBlur={commit}
        onKeyDown={(e) => e.key === "Enter" && commit()}
      />
      {!(good && free) && (
        <p role="alert" className="mt-0.5 text-[12.5px] text-dead">
          {good ? `${own} is taken` : "a letter or digit first, then letters, digits, _ and -"}; it is still {value}
        </p>
      )}
    </>
  );
}
