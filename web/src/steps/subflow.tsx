import { Setting } from "../ui/parts";
import { Chip, Expression, errorAt, type FormProps, Pairs, SpanSetting, type StepView, withSetting } from "./kit";

function Form(p: FormProps) {
  const wait = p.step.wait === true;
  return (
    <div className="p-3">
      <Expression
        {...p}
        template
        label="Flow"
        setting="flow"
        hint="its name, or text with ${…} that comes to one, such as ${vars.route.flow}"
      />
      <Setting label="Its answer" error={errorAt(p, "wait")}>
        <label className="flex items-center gap-1.5">
          <input
            type="checkbox"
            checked={wait}
            onChange={(e) => {
              const next = withSetting(p.step, "wait", e.target.checked ? true : undefined);
              p.change(e.target.checked ? next : withSetting(next, "within", undefined), "");
            }}
          />
          is waited for, and stands under replies
        </label>
      </Setting>
      {wait && <SpanSetting {...p} setting="within" label="Waited for" />}
      <Pairs {...p} label="Headers" setting="headers" template nameHint="x-header" />
    </div>
  );
}

export const subflow: StepView = {
  verb: "Hand to",
  sentence: (s, usual) => (
    <>
      flow <Chip>{String(s.flow ?? "")}</Chip>
      {s.wait ? ` and wait for its answer, ${s.within ?? usual("within")} at most` : ""}
    </>
  ),
  Form,
  begin: () => ({ flow: "flow" }),
};
