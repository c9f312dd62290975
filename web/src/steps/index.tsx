import type { ReactNode } from "react";
import type { Step } from "../model/model";
import { useUsual } from "../systems";
import { aggregate } from "./aggregate";
import { answer } from "./answer";
import { ask } from "./ask";
import { code } from "./code";
import { convert } from "./convert";
import { deliver } from "./deliver";
import { filter } from "./filter";
import { hold } from "./hold";
import type { StepView } from "./kit";
import { lookup } from "./lookup";
import { map } from "./map";
import { note } from "./note";
import { once } from "./once";
import { pace } from "./pace";
import { pair } from "./pair";
import { resequence } from "./resequence";
import { route } from "./route";
import { scatter } from "./scatter";
import { set } from "./set";
import { split } from "./split";
import { subflow } from "./subflow";
import { validate } from "./validate";
import { write } from "./write";

/** What the browser knows of each kind of step: its sentence, its form, its beginning. */
const views: Record<string, StepView> = {
  validate,
  set,
  map,
  write,
  convert,
  filter,
  route,
  split,
  aggregate,
  resequence,
  scatter,
  lookup,
  pair,
  once,
  hold,
  pace,
  code,
  ask,
  subflow,
  deliver,
  answer,
  note,
};

export const kinds = Object.keys(views);

const unknown: StepView = {
  verb: "Unknown",
  sentence: (s) => s.kind,
  Form: () => <p className="p-3">This kind of step is not known here. It can be edited as YAML.</p>,
  begin: () => ({}),
};

export const viewOf = (kind: string): StepView => views[kind] ?? unknown;

/** A step as a sentence. */
export function Sentence({ step }: { step: Step }): ReactNode {
  const v = viewOf(step.kind);
  const usual = useUsual(step.kind);
  return (
    <>
      <b className="text-deep">{v.verb}</b> {step.title ? <span>{step.title}: </span> : null}
      {v.sentence(step, usual)}
      {step.when !== undefined && step.kind !== "way" && (
        <>
          {" "}
          if <span className="chip">{String(step.when)}</span>
        </>
      )}
      {otherwise(step)}
    </>
  );
}

/** What becomes of a message at a step that fails or does not let it pass; its steps stand in a row of their own. */
function otherwise({ else: own }: Step): string {
  if (own === undefined || own === "dead letter") return "";
  if (own === "skip") return ", or skipped when it fails";
  if (own === "turn away") return ", or turned away";
  if (own.answer) return `, or answer ${own.answer}, and ends`;
  return own.default ? `, or values for ${Object.keys(own.default).join(", ")}` : "";
}
