import { Select, Setting } from "../ui/parts";
import { Chip, Expression, type FormProps, type StepView, withSetting } from "./kit";

const Form = (p: FormProps) => (
  <div className="p-3">
    <Expression {...p} label="Text" setting="text" template />
    <Setting label="Level">
      <Select
        label="Level"
        value={p.step.level ?? "info"}
        onChange={(v) => p.change(withSetting(p.step, "level", v), "level")}
        options={["info", "warning"]}
      />
    </Setting>
  </div>
);

export const note: StepView = {
  verb: "Note",
  sentence: (s) => <Chip>{String(s.text ?? "")}</Chip>,
  Form,
  begin: () => ({ text: "seen" }),
};
