import { Setting } from "../ui/parts";
import { Expression, errorAt, type FormProps, Pairs, type StepView, withSetting } from "./kit";

const Form = (p: FormProps) => (
  <div className="p-3">
    <Setting label="Status" error={errorAt(p, "status")}>
      <input
        aria-label="Status"
        type="number"
        min={200}
        max={599}
        className="field data !w-24"
        value={p.step.status ?? p.usual("status")}
        onChange={(e) => p.change(withSetting(p.step, "status", Number(e.target.value)), "status")}
      />
    </Setting>
    <Expression
      {...p}
      label="Text"
      setting="text"
      template
      optional
      hint="without it the present message is answered; text that begins with { is JSON"
    />
    <Pairs {...p} label="Headers" setting="headers" template nameHint="x-header" />
  </div>
);

export const answer: StepView = {
  verb: "Answer",
  sentence: (s, usual) =>
    `the caller with ${s.status ?? usual("status")}${s.text === undefined ? " and the message" : ""}`,
  Form,
  begin: () => ({ status: 200 }),
};
