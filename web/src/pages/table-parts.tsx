import { useState } from "react";
import { enc, get, type Table } from "../api/client";
import { Select, Setting, Text } from "../ui/parts";

/** The definition of a table, as its document has it. */
export type Definition = {
  readyferry: "table/1";
  name: string;
  title?: string;
  kind?: string;
  columns?: string[];
  keys?: string[][];
  range?: { from: string; to: string; ends?: string };
};

const columnsOf = (text: string) =>
  text
    .split(",")
    .map((s) => s.trim())
    .filter(Boolean);

/** The keys of a table in words. */
export function keysOf(t: Table): string {
  const d = t.document as { keys?: string[][]; range?: { from: string; to: string } };
  const keys = (d.keys ?? []).map((k, i) => {
    const range = i === 0 && d.range ? `${d.range.from}–${d.range.to}` : "";
    return [...k, range].filter(Boolean).join(", ");
  });
  return keys.join(t.kind === "cross-reference" ? " = " : "; ") || "none yet";
}

/** The flows that use a table. */
export function UsedBy({ table, go }: { table: Table; go: (flow: string) => void }) {
  if (table.usedBy.length + table.drafts.length === 0) return <span className="text-quiet">no flow</span>;
  return (
    <>
      {table.usedBy.map((f) => (
        <button key={f} type="button" className="btn-bare mr-3" onClick={() => go(f)}>
          {f}
        </button>
      ))}
      {table.drafts.map((f) => (
        <button key={f} type="button" className="btn-bare mr-3 !text-quiet" onClick={() => go(f)}>
          {f} (draft)
        </button>
      ))}
    </>
  );
}

/** The columns of each key, as text. */
export function KeyFields(p: {
  columns: string[];
  cross: boolean;
  keys: string[][];
  onChange: (keys: string[][]) => void;
}) {
  const keys = p.cross ? [p.keys[0] ?? [], p.keys[1] ?? []] : p.keys.length ? p.keys : [[]];
  const put = (i: number, text: string) => p.onChange(keys.map((k, j) => (j === i ? columnsOf(text) : k)));
  const labels = p.cross ? ["Key of one system", "Key of the other"] : ["Key"];
  const known = p.columns.length ? `columns: ${p.columns.join(", ")}` : "columns, with commas between them";
  return (
    <div className="flex gap-2">
      {keys.slice(0, p.cross ? 2 : 1).map((k, i) => (
        <Setting key={i} inline label={labels[i] ?? "Key"} hint={i === 0 ? known : undefined}>
          <Blurred label={labels[i] ?? "Key"} value={k.join(", ")} onChange={(v) => put(i, v)} />
        </Setting>
      ))}
    </div>
  );
}

/** The columns of a range, from and to. */
export function RangeFields(p: { range: Definition["range"]; onChange: (r: Definition["range"]) => void }) {
  const put = (part: Partial<NonNullable<Definition["range"]>>) => {
    const r = { from: "", to: "", ...p.range, ...part };
    p.onChange(r.from || r.to ? r : undefined);
  };
  return (
    <div className="flex gap-2">
      <Setting inline label="Range from" hint="a column; empty where rows have no range">
        <Text mono label="Range from" value={p.range?.from ?? ""} onChange={(from) => put({ from })} />
      </Setting>
      <Setting inline label="Range to">
        <Text mono label="Range to" value={p.range?.to ?? ""} onChange={(to) => put({ to })} />
      </Setting>
      <Setting inline label="Its upper end">
        <Select
          label="Its upper end"
          value={p.range?.ends ?? ""}
          onChange={(ends) => put({ ends: ends || undefined })}
          options={[
            ["", "belongs to it"],
            ["excluded", "does not"],
          ]}
        />
      </Setting>
    </div>
  );
}

/** Rows of a table, as the server pages them. */
export const rowsOf = (name: string, query: string, signal?: AbortSignal) =>
  get<{ version: number; columns: string[]; rows: { n: number; place: number; value: Record<string, unknown> }[] }>(
    `/api/v1/tables/${enc(name)}/rows?${query}`,
    signal,
  );

/** A text that counts when the field is left. */
function Blurred(p: { label: string; value: string; onChange: (v: string) => void }) {
  const [text, setText] = useState<string | null>(null);
  return (
    <input
      aria-label={p.label}
      className="field data"
      value={text ?? p.value}
      onChange={(e) => {
        setText(e.target.value);
        p.onChange(e.target.value);
      }}
      onBlur={() => setText(null)}
    />
  );
}
