import { Select, Setting } from "../ui/parts";
import { ColumnsSetting, CSVSettings, Expression, type FormProps, type StepView, withSetting } from "./kit";

function Form(p: FormProps) {
  const as = String(p.step.as ?? p.usual("as"));
  return (
    <div className="p-3">
      <Setting label="Format">
        <Select
          label="Format"
          value={as}
          onChange={(v) => p.change(withSetting(p.step, "as", v), "as")}
          options={["json", "xml", "csv", "hl7", "form", "jsonl", "fixed", "text"]}
        />
      </Setting>
      {as === "fixed" && <ColumnsSetting {...p} />}
      {as === "csv" && <CSVSettings {...p} header="the first row names the columns" />}
      <Expression
        {...p}
        label="Text"
        setting="text"
        template
        tall
        hint="holes are written ${…} and escaped for the format; ${for x in list} … ${end} repeats, ${if condition} … ${else} … ${end} chooses; $${ is a plain ${"
      />
    </div>
  );
}

export const write: StepView = {
  verb: "Write",
  sentence: (s, usual) => `${String(s.as ?? usual("as")).toUpperCase()} from a text`,
  Form,
  begin: () => ({ as: "xml", text: "<message>${body}</message>" }),
};
