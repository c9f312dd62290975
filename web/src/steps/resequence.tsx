import { Select, Setting, Text } from "../ui/parts";
import { Chip, Count, Expression, errorAt, type FormProps, type StepView, withSetting } from "./kit";

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
            placeholder="5m"
            value={String(p.step.wait ?? "")}
            onChange={(v) => put("wait", v)}
            invalid={!!errorAt(p, "wait")}
          />
        </Setting>
        <Setting inline label="Then those behind it">
          <Select
            label="Then those behind it"
            value={p.step.then ?? "go on"}
            onChange={(v) => put("then", v === "go on" ? undefined : v)}
            options={[
              ["go on", "go on without it"],
              ["dead letter", "are dead letters"],
            ]}
          />
        </Setting>
        <Setting inline label="A number that is late">
          <Select
            label="A number that is late"
            value={p.step.late ?? "turn away"}
            onChange={(v) => put("late", v === "turn away" ? undefined : v)}
            options={[
              ["turn away", "is turned away"],
              ["go on", "goes on at once"],
            ]}
          />
        </Setting>
      </div>
      <div className="flex gap-2">
        <Count {...p} setting="first" label="A key begins with" usual="1" />
        <Count {...p} setting="limit" label="Waiting at most, per key" usual="1000" />
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
