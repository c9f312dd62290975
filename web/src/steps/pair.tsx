import { Setting, Text } from "../ui/parts";
import { Chip, Choose, errorAt, type FormProps, NamedList, Pairs, type StepView, withSetting } from "./kit";

function Form(p: FormProps) {
  const put = (name: string, v: unknown, mark = name) => p.change(withSetting(p.step, name, v), mark);
  return (
    <div className="p-3">
      <div className="flex gap-2">
        <Setting inline label="In the table" error={errorAt(p, "in")}>
          <Text
            mono
            label="In the table"
            list="tables"
            value={String(p.step.in ?? "")}
            onChange={(v) => put("in", v)}
            invalid={!!errorAt(p, "in")}
          />
        </Setting>
        <Choose
          {...p}
          inline
          label="A pair that conflicts"
          setting="conflict"
          options={[
            ["error", "fails"],
            ["keep", "leaves the old one"],
            ["replace", "replaces the old one"],
          ]}
        />
        <Setting inline label="The row stands under" hint="none: it is not kept" error={errorAt(p, "into")}>
          <Text
            mono
            label="The row stands under"
            value={String(p.step.into ?? "")}
            onChange={(v) => put("into", v || undefined)}
          />
        </Setting>
      </div>
      <Pairs {...p} label="Row" setting="row" nameHint="column" />
      <NamedList id="tables" names={p.names.tables} />
    </div>
  );
}

export const pair: StepView = {
  verb: "Pair",
  sentence: (s) => (
    <>
      {Object.entries((s.row ?? {}) as Record<string, unknown>).map(([c, e], i) => (
        <span key={c}>
          {i > 0 && (i === 1 ? " with " : ", ")}
          {c} <Chip>{String(e)}</Chip>
        </span>
      ))}{" "}
      in {String(s.in ?? "")}
      {s.conflict === "keep" && ", unless one is paired already"}
      {s.conflict === "replace" && ", in place of older pairs"}
    </>
  ),
  Form,
  begin: () => ({ in: "table", row: { one: "body.id", other: "replies.step.body.id" } }),
};
