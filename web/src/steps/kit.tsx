import type { FC, ReactNode } from "react";
import type { Entry, Finding } from "../api/client";
import type { Earlier } from "../model/earlier";
import type { FlowDocument, Step } from "../model/model";
import type { Usual } from "../systems";
import { insertAtCursor } from "../ui/caret";
import { Code, type Completion } from "../ui/code";
import { NamedValues } from "../ui/pairs";
import { Select, Setting, Text } from "../ui/parts";
import { RowsEditor } from "../ui/rows";
import { ConditionEditor } from "./mapping/condition";
import { valueAt } from "./mapping/use-map";

/** What a form of settings works with. */
export type FormProps = {
  step: Step;
  /** Changes the step; the mark joins changes of one setting for undo. */
  change: (next: Step, mark: string) => void;
  findings: Finding[];
  pointer: string;
  entry: Entry | undefined;
  completions: Completion[];
  usual: Usual;
  /** What is picked in the message before, until it has found its place. */
  picked?: string | null;
  onPicked?: (path: string | null) => void;
  /** Tells which values of the message before the step uses. */
  onMapped?: (expressions: string[]) => void;
  /** Tells which of them the line uses that is looked at. */
  onLit?: (expressions: string[]) => void;
  /** The value of the message before that is looked at: a pointer, or what reads it. */
  looked?: string | null;
  /** The bodies behind the steps before. */
  earlier?: Earlier[];
  /** Headers of the sample that is looked at. */
  headers?: Record<string, string>;
  /** Says where a click on a value goes: fill puts a path into the marked place. */
  onFill: (fill: ((path: string) => void) | null) => void;
  onHoverField: (to: string | null) => void;
  litField: string | null;
  names: {
    connections: string[];
    /** The kind of each connection. */
    kinds: Record<string, string>;
    queues: string[];
    topics: string[];
    tables: string[];
    flow: string;
  };
};

/** What the browser knows of a kind of step. */
export type StepView = {
  verb: string;
  sentence: (s: Step, usual: Usual) => ReactNode;
  Form: FC<FormProps>;
  /** The settings of a new step. */
  begin: (doc: FlowDocument) => Partial<Step>;
};

export const Chip = ({ children }: { children: ReactNode }) => <span className="chip">{children}</span>;

/** The finding that stands at a setting, in words. */
export const errorAt = (p: Pick<FormProps, "findings" | "pointer">, setting: string): string | undefined => {
  const f = p.findings.find((f) => f.pointer === `${p.pointer}/${setting}`);
  return f && f.message + (f.repair ? `; ${f.repair}` : "");
};

/** A copy of the step with a setting; undefined takes it away. */
export function withSetting(step: Step, name: string, value: unknown): Step {
  const { [name]: _, ...rest } = step;
  if (value === undefined) return rest as Step;
  return name in step ? { ...step, [name]: value } : { ...step, [name]: value };
}

/** A setting that is an expression or a template. */
export function Expression(
  p: FormProps & {
    label: string;
    setting: string;
    hint?: string;
    template?: boolean;
    optional?: boolean;
    tall?: boolean;
  },
) {
  const value = String(p.step[p.setting] ?? "");
  const put = (v: string) =>
    p.change(withSetting(p.step, p.setting, v === "" && p.optional ? undefined : v), p.setting);
  const error = errorAt(p, p.setting);
  return (
    <Setting label={p.label} hint={p.hint} error={error}>
      <div
        className={p.tall ? "h-40 border border-line" : undefined}
        onFocus={() => p.onFill((path) => insertAtCursor(path) || put(p.template ? `${value}\${${path}}` : path))}
      >
        <Code
          key={p.pointer + p.setting}
          label={p.label}
          language={p.tall ? "writing" : p.template ? "template" : "expression"}
          value={value}
          onChange={put}
          completions={p.completions}
          invalid={!!error}
        />
      </div>
    </Setting>
  );
}

/** A setting that is a condition: put together, or written. */
export function ConditionSetting(p: FormProps & { label: string; setting: string; hint?: string }) {
  const error = errorAt(p, p.setting);
  return (
    <Setting label={p.label} hint={p.hint} error={error}>
      <ConditionEditor
        key={p.pointer + p.setting}
        label={p.label}
        value={String(p.step[p.setting] ?? "")}
        onChange={(v) => p.change(withSetting(p.step, p.setting, v), p.setting)}
        completions={p.completions}
        invalid={!!error}
        valueOf={valueAt(p.entry)}
        onFill={p.onFill}
        points
      />
    </Setting>
  );
}

/** A setting that is one of a few; the usual one is left out of the document. */
export function Choose(
  p: FormProps & { setting: string; label: string; options: (string | [string, string])[]; inline?: boolean },
) {
  const usual = p.usual(p.setting);
  return (
    <Setting inline={p.inline} label={p.label} error={errorAt(p, p.setting)}>
      <Select
        label={p.label}
        value={String(p.step[p.setting] ?? usual)}
        onChange={(v) => p.change(withSetting(p.step, p.setting, v === usual ? undefined : v), p.setting)}
        options={p.options}
      />
    </Setting>
  );
}

/** A setting that is a whole number; empty is the usual one. */
export function Count(p: FormProps & { setting: string; label: string }) {
  return (
    <Setting inline label={p.label} error={errorAt(p, p.setting)}>
      <Text
        mono
        type="number"
        label={p.label}
        placeholder={p.usual(p.setting)}
        value={String(p.step[p.setting] ?? "")}
        onChange={(v) =>
          p.change(withSetting(p.step, p.setting, v === "" ? undefined : Math.trunc(Number(v) || 0)), p.setting)
        }
      />
    </Setting>
  );
}

/** A setting that is a span of time; empty is the usual one. */
export function SpanSetting(p: FormProps & { setting: string; label: string; hint?: string }) {
  return (
    <Setting inline label={p.label} hint={p.hint} error={errorAt(p, p.setting)}>
      <Text
        mono
        label={p.label}
        placeholder={p.usual(p.setting)}
        value={String(p.step[p.setting] ?? "")}
        onChange={(v) => p.change(withSetting(p.step, p.setting, v || undefined), p.setting)}
        invalid={!!errorAt(p, p.setting)}
      />
    </Setting>
  );
}

/** Named expressions or templates: vars and headers. */
export function Pairs(
  p: FormProps & { label: string; setting: string; template?: boolean; literal?: boolean; nameHint: string },
) {
  return (
    <NamedValues
      label={p.label}
      of={(p.step[p.setting] ?? {}) as Record<string, unknown>}
      template={!!(p.template || p.literal)}
      plain={!p.template}
      begin={p.nameHint}
      add={p.nameHint}
      completions={p.completions}
      errorOf={(name) => errorAt(p, `${p.setting}/${name}`)}
      onFill={p.onFill}
      put={(entries) =>
        p.change(
          withSetting(p.step, p.setting, entries.length ? Object.fromEntries(entries) : undefined),
          p.setting + entries.length,
        )
      }
    />
  );
}

/** Names to choose from in a field that names the list. */
export const NamedList = ({ id, names }: { id: string; names: string[] }) => (
  <datalist id={id}>
    {names.map((n) => (
      <option key={n} value={n} />
    ))}
  </datalist>
);

/** What a message gets that does not pass. */
export function ElseSetting(p: FormProps) {
  const v = p.step.else as string | { answer: number } | { steps: Step[] } | undefined;
  const kind = v === undefined ? p.usual("else") : typeof v === "string" ? v : "steps" in v ? "steps" : "answer";
  const choose: Record<string, unknown> = {
    answer: { answer: 422 },
    steps: { steps: [{ id: `${p.step.id}-failed`, kind: "note", text: "${caught.reason}" }] },
  };
  return (
    <Setting label="A message that does not pass" error={errorAt(p, "else")}>
      <div className="flex gap-1.5">
        <select
          aria-label="A message that does not pass"
          className="field !w-auto"
          value={kind}
          onChange={(e) => p.change(withSetting(p.step, "else", choose[e.target.value] ?? e.target.value), "else")}
        >
          <option value="dead letter">becomes a dead letter</option>
          <option value="turn away">is turned away</option>
          <option value="answer">is turned away, and the caller gets a status</option>
          <option value="steps">runs the steps below</option>
        </select>
        {kind === "answer" && (
          <input
            aria-label="Status for the caller"
            className="field data !w-20"
            type="number"
            min={200}
            max={599}
            value={(v as { answer: number }).answer}
            onChange={(e) => p.change(withSetting(p.step, "else", { answer: Number(e.target.value) }), "else")}
          />
        )}
      </div>
      {kind === "steps" && <ThenSetting step={p.step} change={p.change} />}
    </Setting>
  );
}

/** What becomes of a message behind the steps of an else. */
export function ThenSetting({ step, change }: { step: Step; change: (next: Step, mark: string) => void }) {
  const own = step.else as { steps: Step[]; then?: string };
  return (
    <Setting label="Behind these steps">
      <select
        aria-label="Behind these steps"
        className="field !w-auto"
        value={own.then ?? "end"}
        onChange={(e) =>
          change(withSetting(step, "else", withSetting(own as unknown as Step, "then", e.target.value)), "else")
        }
      >
        <option value="end">the message ends, turned away with the reason</option>
        <option value="go on">the message goes on with the step behind</option>
      </select>
    </Setting>
  );
}

/** The layout of text of fixed width. */
export const ColumnsSetting = (p: Pick<FormProps, "step" | "change" | "findings" | "pointer">) => (
  <RowsEditor
    label="Columns, in their order"
    error={errorAt(p, "columns")}
    columns={[
      { name: "name", title: "Name", type: "text" },
      { name: "width", title: "Width", type: "number", width: "5.5rem" },
      { name: "align", title: "Stands at the", type: "text", options: ["left", "right"], width: "6.5rem" },
      { name: "fill", title: "Filled with", type: "text", width: "5rem" },
    ]}
    value={(p.step.columns ?? []) as Record<string, string | number>[]}
    onChange={(v) => p.change(withSetting(p.step, "columns", v), "columns")}
    errorOf={(place) => errorAt(p, `columns/${place}`)}
  />
);

/** How CSV is read or written. */
export function CSVSettings(
  p: Pick<FormProps, "step" | "change" | "findings" | "pointer" | "usual"> & { header: string; compact?: boolean },
) {
  const usual = p.usual("header") === "true";
  const header = (p.step.header as boolean | undefined) ?? usual;
  const delimiter = (
    <Text
      label="Delimiter"
      mono
      placeholder={p.usual("delimiter")}
      value={String(p.step.delimiter ?? "")}
      onChange={(v) => p.change(withSetting(p.step, "delimiter", v || undefined), "delimiter")}
    />
  );
  const names = (
    <label className={`flex items-center gap-1.5 ${p.compact ? "" : "mb-4 flex-[2]"}`}>
      <input
        type="checkbox"
        checked={header}
        onChange={(e) =>
          p.change(withSetting(p.step, "header", e.target.checked === usual ? undefined : e.target.checked), "")
        }
      />
      {p.header}
    </label>
  );
  if (p.compact) {
    const error = errorAt(p, "delimiter");
    return (
      <div className="flex items-center gap-3 pb-1.5 text-[12.5px]">
        <span>delimiter</span>
        <span className="w-12">{delimiter}</span>
        {names}
        {error && (
          <span role="alert" className="text-dead">
            {error}
          </span>
        )}
      </div>
    );
  }
  return (
    <div className="flex items-end gap-2">
      <Setting inline label="Delimiter" error={errorAt(p, "delimiter")}>
        {delimiter}
      </Setting>
      {names}
    </div>
  );
}
