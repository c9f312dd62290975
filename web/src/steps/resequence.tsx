import { Setting, Text } from "../ui/parts";
import { Chip, Choose, Count, Expression, errorAt, type FormProps, type StepView, withSetting } from "./kit";

function Form(p: FormProps) {
  const put = (name: string, v: unknown) => p.change(withSetting(p.step, name, v), name);
  return (
    <div className="p-3">
      <Expression {...p} label="Key" setting="key" hint="each value has numbers of its own" />
      <Expression {...p} label="Number" setting="number" hint="a whole number; the next one is 1 more" />
      <div className="flex gap-2">
        <Setting inline label="A missing number is waited for" error={errorAt(p, "wait")}>
          <Text
            mono
            label="A missing number is waited for"
            placeholder={p.usual("wait")}
            value={String(p.step.wait ?? "")}
            onChange={(v) => put("wait", v)}
            invalid={!!errorAt(p, "wait")}
          />
        </Setting>
        <Choose
          {...p}
          inline
          label="Then those behind it"
          setting="then"
          options={[
            ["go on", "go on without it"],
            ["dead letter", "are dead letters"],
          ]}
        />
        <Choose
          {...p}
          inline
          label="A number that is late"
          setting="late"
          options={[
            ["turn away", "is turned away"],
            ["go on", "goes on at once"],
          ]}
        />
      </div>
      <div className="flex gap-2">
        <Count {...p} setting="first" label="A key begins with" />
        <Count {...p} setting="limit" label="Waiting at most, per key" />
      </div>
    </div>
  );
}

export const resequence: StepView = {
  verb: "Put in order",
  sentence: (s) => (
    <>
      by <Chip>{String(s.number ?? "")}</Chip> for each <Chip>{String(s.key ?? "")}</Chip>, waiting {s.wait ?? ""} for a
      gap
      {s.then === "dead letter" && ", then dead letter"}
    </>
  ),
  Form,
  begin: () => ({ key: "body.key", number: "body.number", wait: "5m" }),
};
