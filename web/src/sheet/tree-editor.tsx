import { useState } from "react";
import { Text } from "../ui/parts";

// biome-ignore lint/suspicious/noExplicitAny: a message is a tree of maps and lists
type Tree = any;

const kinds = { text: "", number: 0, boolean: false, map: {}, list: [], null: null } as const;

const kindOf = (v: Tree): keyof typeof kinds =>
  v === null
    ? "null"
    : Array.isArray(v)
      ? "list"
      : typeof v === "object"
        ? "map"
        : typeof v === "string"
          ? "text"
          : (typeof v as "number" | "boolean");

/** A message of JSON as a tree whose names and values are fields. Numbers that JavaScript cannot hold stay text. */
export function TreeEditor({ text, onChange }: { text: string; onChange: (text: string) => void }) {
  let tree: Tree;
  try {
    tree = JSON.parse(text);
  } catch (e) {
    return <p className="p-3 text-dead">{`It cannot be shown as a tree: ${e instanceof Error ? e.message : e}`}</p>;
  }
  if (/[-\d.eE]{16,}/.test(text.replace(/"(?:[^"\\]|\\.)*"/g, '""')))
    return <p className="p-3 text-quiet">It has numbers that are too long to edit here; change them in its text.</p>;
  return (
    <div className="p-2" data-testid="tree-editor">
      <Value label="message" value={tree} onChange={(v) => onChange(JSON.stringify(v, null, 2))} />
    </div>
  );
}

function Value(p: { label: string; value: Tree; onChange: (v: Tree) => void }) {
  const kind = kindOf(p.value);
  if (kind === "map" || kind === "list") return <Inside {...p} />;
  if (kind === "null") return <span className="data text-quiet">null</span>;
  if (kind === "boolean")
    return (
      <input type="checkbox" aria-label={p.label} checked={p.value} onChange={(e) => p.onChange(e.target.checked)} />
    );
  return (
    <Text
      mono
      label={p.label}
      value={String(p.value)}
      onChange={(v) =>
        p.onChange(kind === "number" ? (v !== "" && Number.isFinite(Number(v)) ? Number(v) : p.value) : v)
      }
    />
  );
}

/** The members of a map, or the items of a list. */
function Inside({ label, value, onChange }: { label: string; value: Tree; onChange: (v: Tree) => void }) {
  const list = Array.isArray(value);
  const [name, setName] = useState("");
  const [kind, setKind] = useState<keyof typeof kinds>("text");
  const entries: [string, Tree][] = list ? value.map((v: Tree, i: number) => [String(i), v]) : Object.entries(value);
  const put = (next: [string, Tree][]) => onChange(list ? next.map(([, v]) => v) : Object.fromEntries(next));
  const add = () => {
    if (!list && (name === "" || name in value)) return;
    put([...entries, [name, structuredClone(kinds[kind])]]);
    setName("");
  };
  return (
    <ul className="w-full">
      {entries.map(([k, v], i) => (
        <li key={list ? i : k} className="flex items-start gap-2 py-0.5">
          <span className={`data shrink-0 pt-1 ${list ? "w-8 text-right text-quiet" : "min-w-20"}`}>{k}</span>
          <div className="min-w-0 flex-1">
            <Value
              label={`${label}.${k}`}
              value={v}
              onChange={(next) => put(entries.map((e, j) => (j === i ? [k, next] : e)))}
            />
          </div>
          <button
            type="button"
            className="btn-bare shrink-0"
            aria-label={`Remove ${label}.${k}`}
            onClick={() => put(entries.filter((_, j) => j !== i))}
          >
            ×
          </button>
        </li>
      ))}
      <li className="flex items-center gap-2 py-0.5">
        {!list && (
          <span className="w-28">
            <Text mono label={`New member of ${label}`} value={name} onChange={setName} placeholder="name" />
          </span>
        )}
        <select
          aria-label={`Kind of what is new in ${label}`}
          className="field !w-auto"
          value={kind}
          onChange={(e) => setKind(e.target.value as keyof typeof kinds)}
        >
          {Object.keys(kinds).map((k) => (
            <option key={k}>{k}</option>
          ))}
        </select>
        <button type="button" className="btn-bare" disabled={!list && (name === "" || name in value)} onClick={add}>
          add
        </button>
      </li>
    </ul>
  );
}
