import { useState } from "react";
import type { Step } from "../../model/model";
import { Dialog, Select, Setting, Text, Trouble } from "../../ui/parts";
import { type Contract, FromContract } from "../from-contract";
import { withSetting } from "../kit";

/** What a document seems to be, for an example that is pasted. */
export function guess(text: string): "json" | "xml" | "hl7" | "csv" {
  const t = text.trimStart();
  if (t.startsWith("{") || t.startsWith("[")) return "json";
  if (t.startsWith("<")) return "xml";
  if (/^(MSH|FHS|BHS)/.test(t)) return "hl7";
  const first = t.split(/\r?\n/)[0] ?? "";
  return /[,;\t|]/.test(first) ? "csv" : "json";
}

const wordOf: Record<string, string> = {
  schema: "a schema",
  message: "a kind of message",
  columns: "columns",
  example: "an example",
};

/** What the target is known by, in words. */
export function shapeWords(step: Step): string {
  if (step.start === "example") return "an example, which it starts from";
  const kind = Object.keys((step.target as object | undefined) ?? {})[0];
  if (!kind) return "";
  const t = step.target as Record<string, unknown>;
  if (kind === "schema") return String((t.schema as { $ref?: string })?.$ref ?? "a schema");
  if (kind === "message" || kind === "version") return `HL7 ${String(t.message ?? "")}`;
  return wordOf[kind] ?? kind;
}

const withoutShape = (s: Step) =>
  withSetting(withSetting(withSetting(s, "target", undefined), "example", undefined), "start", undefined);

/** Whether what no line writes usually stays as the example has it: where a document is mostly frame. */
export const usuallyStarts = (text: string) => ["hl7", "xml"].includes(guess(text));

/** A map whose target looks like an example. */
export function likeExample(step: Step, text: string, starts = usuallyStarts(text)): Step {
  const as = guess(text);
  let example: unknown = text;
  if (as === "json")
    try {
      example = JSON.parse(text);
    } catch {
      // the finding says what is wrong with it
    }
  const next = { ...withoutShape(step), as };
  return starts ? { ...next, start: "example", example } : { ...next, target: { example } };
}

/** A map whose target is a message of a contract: by its schema, or where it is XML by its sample. */
function byContract(step: Step, contract: Contract | null): Step {
  const made = contract?.made;
  if (!made) return step;
  if (made.format !== "json") return { ...step, as: made.format, target: { example: made.sample } };
  return { ...step, as: "json", target: { schema: made.schema } };
}

/** A dialog in which a person says what the target looks like. */
export function ShapeDialog(p: {
  open: boolean;
  onClose: () => void;
  step: Step;
  files: string[];
  tables: { name: string; columns: string[] }[];
  change: (next: Step) => void;
}) {
  const [by, setBy] = useState<"example" | "schema" | "contract" | "message" | "table">("example");
  const [contract, setContract] = useState<Contract | null>(null);
  const [trouble, setTrouble] = useState<unknown>();
  const [text, setText] = useState("");
  const [keep, setKeep] = useState<boolean | null>(null);
  const [file, setFile] = useState(p.files[0] ?? "");
  const [kind, setKind] = useState("ORU^R01");
  const [version, setVersion] = useState("2.5.1");
  const [table, setTable] = useState(p.tables[0]?.name ?? "");
  const starts = keep ?? usuallyStarts(text);
  const done = () => {
    const base = withoutShape(p.step);
    if (by === "example") p.change(likeExample(p.step, text, starts));
    else if (by === "schema") p.change({ ...base, as: "json", target: { schema: { $ref: file } } });
    else if (by === "contract") p.change(byContract(base, contract));
    else if (by === "message") p.change({ ...base, as: "hl7", target: { message: kind, version } });
    else
      p.change({
        ...base,
        as: base.as === "csv" ? "csv" : "json",
        target: { columns: p.tables.find((t) => t.name === table)?.columns ?? [] },
      });
    p.onClose();
  };
  return (
    <Dialog open={p.open} onClose={p.onClose} title="What the target looks like" wide>
      <div role="tablist" aria-label="Known by" className="mb-3 flex gap-4">
        {(
          [
            ["example", "An example"],
            ["schema", "A schema"],
            ["contract", "A contract"],
            ["message", "A kind of HL7 message"],
            ["table", "A table"],
          ] as const
        ).map(([v, title]) => (
          <button
            key={v}
            type="button"
            role="tab"
            aria-selected={by === v}
            className={by === v ? "border-b-2 border-buoy font-bold" : "text-quiet hover:underline"}
            onClick={() => setBy(v)}
          >
            {title}
          </button>
        ))}
      </div>
      {by === "example" && (
        <>
          <textarea
            aria-label="Example"
            className="field data h-64"
            autoFocus
            placeholder="Paste a document as the target wants it: JSON, XML, HL7 or CSV"
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
          <label className="mt-2 flex items-center gap-1.5">
            <input type="checkbox" checked={starts} onChange={(e) => setKeep(e.target.checked)} />
            what no line writes stays as the example has it
          </label>
        </>
      )}
      {by === "schema" &&
        (p.files.length ? (
          <Setting label="Schema">
            <Select label="Schema" value={file} onChange={setFile} options={p.files} />
          </Setting>
        ) : (
          <p className="text-quiet">The flow has no schema among its files yet; put one there under Files.</p>
        ))}
      {by === "contract" && (
        <>
          <FromContract title="What the target is" contract={contract} onContract={setContract} onError={setTrouble} />
          {trouble !== undefined && <Trouble error={trouble} />}
        </>
      )}
      {by === "message" && (
        <div className="flex gap-2">
          <Setting inline label="Kind of message" hint="type and event, such as ORU^R01">
            <Text mono label="Kind of message" value={kind} onChange={setKind} />
          </Setting>
          <Setting inline label="Version">
            <Select
              label="Version"
              value={version}
              onChange={setVersion}
              options={["2.3", "2.3.1", "2.4", "2.5", "2.5.1", "2.6", "2.7", "2.7.1", "2.8"]}
            />
          </Setting>
        </div>
      )}
      {by === "table" &&
        (p.tables.length ? (
          <Setting label="Table">
            <Select label="Table" value={table} onChange={setTable} options={p.tables.map((t) => t.name)} />
          </Setting>
        ) : (
          <p className="text-quiet">There are no tables yet.</p>
        ))}
      <div className="mt-3 flex justify-end gap-2">
        <button type="button" className="btn" onClick={p.onClose}>
          Cancel
        </button>
        <button
          type="button"
          className="btn btn-go"
          disabled={!{ example: text.trim(), schema: file, contract: contract?.made, message: kind, table }[by]}
          onClick={done}
        >
          Show its lines
        </button>
      </div>
    </Dialog>
  );
}
