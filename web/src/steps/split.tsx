import { Code } from "../ui/code";
import { Select, Setting, Text } from "../ui/parts";
import { Chip, Choose, errorAt, type FormProps, type StepView, withSetting } from "./kit";

const ways = ["each", "elements", "segments", "lines"] as const;
type Over = (typeof ways)[number];

const overOf = (s: FormProps["step"]): Over => ways.find((w) => s[w] !== undefined && s[w] !== false) ?? "each";

const hints: Record<Over, string> = {
  each: "an expression that gives a list, such as body.titles; body for the rows of a CSV body",
  elements: "an XPath that finds elements, such as //order/line",
  segments: "the name of the segments, such as OBX",
  lines: "true for the lines of the body, or an expression that gives a text",
};
const begins: Record<Over, [string, unknown]> = {
  each: ["each", "body.items"],
  elements: ["elements", "//item"],
  segments: ["segments", "OBX"],
  lines: ["lines", true],
};

function Form(p: FormProps) {
  const over = overOf(p.step);
  const setting = begins[over][0];
  const put = (name: string, v: unknown) => p.change(withSetting(p.step, name, v), name);
  const value = String(p.step[setting] ?? "");
  const text = (v: string) => put(setting, setting === "lines" && (v === "true" || v === "") ? true : v);
  return (
    <div className="p-3">
      <div className="flex gap-2">
        <Setting inline label="A part is">
          <Select
            label="A part is"
            value={over}
            onChange={(o) => {
              const rest = Object.fromEntries(
                Object.entries(p.step).filter(([k]) => !(ways as readonly string[]).includes(k)),
              );
              const [name, start] = begins[o as Over];
              p.change({ ...rest, [name]: start } as typeof p.step, "");
            }}
            options={[
              ["each", "each item of a list, or row of CSV"],
              ["elements", "each element of an XML body"],
              ["segments", "each segment of an HL7 body"],
              ["lines", "each line of a text"],
            ]}
          />
        </Setting>
        <Choose
          {...p}
          inline
          label="Inside, body is"
          setting="message"
          options={[
            ["whole", "the whole message still"],
            ["part", "the part"],
          ]}
        />
      </div>
      <Setting label="Over" hint={hints[over]} error={errorAt(p, setting)}>
        {over === "segments" ? (
          <Text mono label="Over" value={value} onChange={text} invalid={!!errorAt(p, setting)} />
        ) : (
          <div onFocus={() => p.onFill((path) => text(path))}>
            <Code
              key={p.pointer + setting}
              label="Over"
              language={over === "elements" ? "template" : "expression"}
              value={value}
              onChange={text}
              completions={over === "elements" ? [] : p.completions}
              invalid={!!errorAt(p, setting)}
            />
          </div>
        )}
      </Setting>
      <div className="flex gap-2">
        <Choose
          {...p}
          inline
          label="Parts go"
          setting="parts"
          options={[
            ["independent", "side by side"],
            ["in order", "in order, each behind the end of the one before"],
          ]}
        />
        <Choose
          {...p}
          inline
          label="When one is a dead letter"
          setting="when-dead"
          options={[
            ["go on", "the rest goes on"],
            ["stop", "those not begun wait for a decision"],
          ]}
        />
        <Setting inline label="At most" error={errorAt(p, "limit")}>
          <Text
            mono
            type="number"
            label="At most"
            placeholder={p.usual("limit")}
            value={String(p.step.limit ?? "")}
            onChange={(v) => put("limit", Number(v) || undefined)}
          />
        </Setting>
      </div>
    </div>
  );
}

export const split: StepView = {
  verb: "Split",
  sentence: (s) => {
    const over = overOf(s);
    return (
      <>
        {over === "lines" ? "into lines " : "over "}
        {!(over === "lines" && s.lines === true) && <Chip>{String(s[begins[over][0]] ?? "")}</Chip>}
        {over === "segments" && " segments"}
        {s.parts === "in order" && ", in order"}
        {s["when-dead"] === "stop" && ", stopping at a dead letter"}
      </>
    );
  },
  Form,
  begin: (doc) => {
    const over: Record<string, Over> = { xml: "elements", hl7: "segments", text: "lines" };
    const [name, start] = begins[over[doc.intake.format ?? ""] ?? "each"];
    return { [name]: doc.intake.format === "csv" ? "body" : start, steps: [] };
  },
};
