import { Select, Setting, Text } from "../ui/parts";
import { ColumnsSetting, CSVSettings, errorAt, type FormProps, type StepView, withSetting } from "./kit";
import { bySchema, SchemaSetting } from "./schema-setting";

function Form(p: FormProps) {
  const to = String(p.step.to ?? "");
  return (
    <div className="p-3">
      <Setting label="New format" error={errorAt(p, "to")}>
        <Select
          label="New format"
          value={to}
          onChange={(v) => p.change(withSetting(p.step, "to", v), "to")}
          options={[
            "json",
            "xml",
            "csv",
            "hl7",
            "form",
            "multipart",
            "jsonl",
            "fixed",
            "avro",
            "protobuf",
            "text",
            "binary",
          ]}
        />
      </Setting>
      {to === "xml" && (
        <Setting label="Element around a value without one">
          <Text
            label="Element around a value without one"
            mono
            placeholder={p.usual("root")}
            value={String(p.step.root ?? "")}
            onChange={(v) => p.change(withSetting(p.step, "root", v || undefined), "root")}
          />
        </Setting>
      )}
      {to === "fixed" && <ColumnsSetting {...p} />}
      {bySchema(to) && <SchemaSetting {...p} format={to} />}
      {to === "csv" && <CSVSettings {...p} header="with a row of the columns' names" />}
      <p className="text-quiet">
        The rules stand in{" "}
        <a className="underline" href="/help#step-convert">
          the help
        </a>
        : what becomes of lists, of numbers, of empty values.
      </p>
    </div>
  );
}

export const convert: StepView = {
  verb: "Convert",
  sentence: (s) => `to ${String(s.to ?? "").toUpperCase()}`,
  Form,
  begin: () => ({ to: "xml" }),
};
