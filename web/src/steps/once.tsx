import { Chip, Expression, type FormProps, SpanSetting, type StepView } from "./kit";

function Form(p: FormProps) {
  return (
    <div className="p-3">
      <Expression {...p} label="Key" setting="key" hint="the same value is the same message" />
      <SpanSetting {...p} setting="for" label="Remembered for" />
      <Expression {...p} template optional label="Reason" setting="reason" hint="why a repeat is turned away" />
    </div>
  );
}

export const once: StepView = {
  verb: "Once",
  sentence: (s, usual) => (
    <>
      for each <Chip>{String(s.key ?? "")}</Chip> within {String(s.for ?? usual("for"))}
    </>
  ),
  Form,
  begin: () => ({ key: "body.id" }),
};
