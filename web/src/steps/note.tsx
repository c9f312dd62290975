import { Chip, Choose, Expression, type FormProps, type StepView } from "./kit";

const Form = (p: FormProps) => (
  <div className="p-3">
    <Expression {...p} label="Text" setting="text" template />
    <Choose {...p} label="Level" setting="level" options={["info", "warning"]} />
  </div>
);

export const note: StepView = {
  verb: "Note",
  sentence: (s) => <Chip>{String(s.text ?? "")}</Chip>,
  Form,
  begin: () => ({ text: "seen" }),
};
