import { Chip, ConditionSetting, ElseSetting, Expression, type FormProps, type StepView } from "./kit";

const Form = (p: FormProps) => (
  <div className="p-3">
    <ConditionSetting {...p} label="Goes on when" setting="keep" />
    <Expression
      {...p}
      label="Reason for the others"
      setting="reason"
      template
      optional
      hint="text with ${…}; it stands with the transaction"
    />
    <ElseSetting {...p} />
  </div>
);

export const filter: StepView = {
  verb: "Filter",
  sentence: (s) => (
    <>
      goes on when <Chip>{String(s.keep)}</Chip>
    </>
  ),
  Form,
  begin: () => ({ keep: "true", reason: "" }),
};
