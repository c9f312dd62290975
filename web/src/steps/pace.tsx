import { Chip, Count, Expression, type FormProps, SpanSetting, type StepView } from "./kit";

function Form(p: FormProps) {
  return (
    <div className="p-3">
      <div className="flex gap-2">
        <Count {...p} setting="most" label="At most" />
        <SpanSetting {...p} setting="per" label="Within" />
        <SpanSetting {...p} setting="within" label="The longest wait" hint="empty: as long as it takes" />
      </div>
      <Expression
        {...p}
        optional
        label="Key"
        setting="key"
        hint="each value has a pace of its own; without it all share one"
      />
    </div>
  );
}

export const pace: StepView = {
  verb: "Pace",
  sentence: (s) => (
    <>
      at most {String(s.most ?? "")} within {String(s.per ?? "")}
      {s.key !== undefined && (
        <>
          {" "}
          for each <Chip>{String(s.key)}</Chip>
        </>
      )}
    </>
  ),
  Form,
  begin: () => ({ most: 10, per: "1m" }),
};
