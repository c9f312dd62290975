import { Setting, Text } from "../ui/parts";
import { Chip, Expression, errorAt, type FormProps, SpanSetting, type StepView, withSetting } from "./kit";

function Form(p: FormProps) {
  return (
    <div className="p-3">
      <Expression
        {...p}
        template
        tall
        label="Script"
        setting="script"
        hint="JavaScript; return the new body, or a value. It sees body, headers, params, query, message, vars, replies, part, now"
      />
      <div className="flex gap-2">
        <Setting
          inline
          label="The value stands under vars as"
          hint="empty: it is the new body"
          error={errorAt(p, "into")}
        >
          <Text
            mono
            label="The value stands under vars as"
            value={String(p.step.into ?? "")}
            onChange={(v) => p.change(withSetting(p.step, "into", v || undefined), "into")}
          />
        </Setting>
        <SpanSetting {...p} setting="limit" label="Stopped after" />
      </div>
    </div>
  );
}

export const code: StepView = {
  verb: "Code",
  sentence: (s) => {
    const lines = String(s.script ?? "")
      .trim()
      .split("\n");
    return (
      <>
        {lines.length} {lines.length === 1 ? "line" : "lines"} of JavaScript
        {s.into ? (
          <>
            {" "}
            into <Chip>{`vars.${s.into}`}</Chip>
          </>
        ) : (
          " for a new body"
        )}
      </>
    );
  },
  Form,
  begin: () => ({ script: "return body;" }),
};
