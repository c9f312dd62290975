import { useState } from "react";
import { carried, carry, withLines } from "./carry";
import type { MapField } from "./fields";

/** A place of a format, as a new line begins with it. */
const begins: Record<string, string> = {
  json: "/field",
  jsonl: "/field",
  avro: "/field",
  protobuf: "/field",
  xml: "/root/field",
  hl7: "PID-5.1",
};
const list: Record<string, string | undefined> = {
  json: "/list",
  jsonl: "/list",
  avro: "/list",
  protobuf: "/list",
  xml: "/root/item",
  csv: undefined,
  hl7: undefined,
};

/** What stands below the lines of a target: new ones, and those of another map. */
export function Below(p: {
  as: string;
  fields: MapField[];
  /** The line that is chosen, where there is one. */
  chosen?: MapField;
  add: (f: MapField) => void;
  put: (fields: MapField[]) => void;
  fold?: () => void;
}) {
  const [said, setSaid] = useState("");
  const [copied, setCopied] = useState(carried);
  const copy = () => {
    const lines = p.chosen ? [p.chosen] : p.fields;
    carry(lines);
    setCopied(lines);
    setSaid(`${lines.length === 1 ? "1 line" : `${lines.length} lines`} copied, for the map of any step or flow`);
  };
  const paste = () => {
    const lines = carried();
    const now = withLines(p.fields, lines);
    p.put(now.fields);
    setSaid(now.replaced ? `${now.replaced} of them in place of lines that wrote there` : "");
  };
  const to = list[p.as] ?? "field";
  return (
    <div className="flex flex-wrap gap-x-5 gap-y-1 px-3 py-1.5">
      <button type="button" className="btn-bare" onClick={() => p.add({ to: begins[p.as] ?? "field", from: '""' })}>
        + line
      </button>
      <button
        type="button"
        className="btn-bare"
        onClick={() => p.add({ ...(p.as === "csv" || p.as === "hl7" ? {} : { to }), each: "body", fields: [] })}
      >
        + for each
      </button>
      <button type="button" className="btn-bare" onClick={() => p.add({ when: "true", fields: [] })}>
        + lines with a condition
      </button>
      {p.fields.length > 0 && (
        <button type="button" className="btn-bare" onClick={copy}>
          {p.chosen ? "copy the line" : "copy all lines"}
        </button>
      )}
      {copied.length > 0 && (
        <button type="button" className="btn-bare" onClick={paste}>
          put in what was copied ({copied.length})
        </button>
      )}
      {p.fold && (
        <button type="button" className="btn-bare" onClick={p.fold}>
          fold what nothing writes
        </button>
      )}
      <span role="status" className="text-quiet">
        {said}
      </span>
    </div>
  );
}
