import { Setting, Text } from "../ui/parts";
import { Chip, Expression, errorAt, type FormProps, Pairs, SpanSetting, type StepView, withSetting } from "./kit";

/** How long a flow at a runner is waited for where nothing is said. */
const usualAt = "5m";

function Form(p: FormProps) {
  const wait = p.step.wait === true;
  const at = String(p.step.at ?? "");
  return (
    <div className="p-3">
      <Expression
        {...p}
        template
        label="Flow"
        setting="flow"
        hint="its name, or text with ${…} that comes to one, such as ${vars.route.flow}"
      />
      <Setting inline label="At the runner" error={errorAt(p, "at")}>
        <Text
          mono
          label="At the runner"
          placeholder="here"
          value={at}
          onChange={(v) => p.change(withSetting(p.step, "at", v || undefined), "at")}
          invalid={!!errorAt(p, "at")}
        />
      </Setting>
      {at && (
        <p className="mb-2 text-quiet">
          It runs wholly there, with its own transaction. What this step hands over and its answer cross the line,
          nothing else; what fails there fails this step.
        </p>
      )}
      <Setting label="Its answer" error={errorAt(p, "wait")}>
        <label className="flex items-center gap-1.5">
          <input
            type="checkbox"
            checked={wait}
            onChange={(e) => {
              const next = withSetting(p.step, "wait", e.target.checked ? true : undefined);
              p.change(e.target.checked || at ? next : withSetting(next, "within", undefined), "");
            }}
          />
          is waited for, and stands under replies
        </label>
      </Setting>
      {(wait || at) && (
        <SpanSetting
          {...p}
          usual={(name) => (at && name === "within" ? usualAt : p.usual(name))}
          setting="within"
          label="Waited for"
        />
      )}
      <Pairs {...p} label="Headers" setting="headers" template nameHint="x-header" />
    </div>
  );
}

export const subflow: StepView = {
  verb: "Hand to",
  sentence: (s, usual) => (
    <>
      flow <Chip>{String(s.flow ?? "")}</Chip>
      {s.at ? (
        <>
          {" "}
          at the runner <Chip>{String(s.at)}</Chip>
        </>
      ) : (
        ""
      )}
      {s.wait ? ` and wait for its answer, ${s.within ?? (s.at ? usualAt : usual("within"))} at most` : ""}
    </>
  ),
  Form,
  begin: () => ({ flow: "flow" }),
};
