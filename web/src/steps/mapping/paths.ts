import type { Loop } from "./fields";

const plainly = (s: string) => s.replace(/[.*+?^${}()|[\]\\]/g, "\\$&");
const groups = /^hl7Groups\((\w[\w.]*(?:\["[^"\]]+"\])?), "([A-Z][A-Z0-9]{2})"\)$/;

/** An expression as a loop's fields say it: of the item, not of one item of the whole list. */
export function within(expression: string, loops: Loop[]): string {
  let out = expression;
  for (const loop of loops) {
    const g = groups.exec(loop.each);
    if (g) {
      const [, root = "body", name = ""] = g;
      out = out
        .replace(
          new RegExp(`hl7\\(${plainly(root)}, "${name}(?:\\[\\d+\\])?(-[^"]*)?"\\)`),
          (_, rest = "") => `hl7(${loop.as}, "${name}${rest}")`,
        )
        .replace(new RegExp(`hl7Groups\\(${plainly(root)}, `), `hl7Groups(${loop.as}, `);
      continue;
    }
    const list = loop.each.replace(/^many\((.*)\)$/, "$1");
    if (out === list) continue;
    out = out.replace(new RegExp(`^${plainly(list)}\\[\\d+\\](?=$|[.[])`), loop.as);
    if (out === expression) out = out.replace(new RegExp(`^${plainly(list)}(?=[.[])`), loop.as);
  }
  return out;
}

/** The list that a value stands in, for a loop over it: of a value of an item, the list of the items. */
export function listOf(expression: string): string {
  const hl7 = /^hl7\((\w[\w.]*(?:\["[^"\]]+"\])?), "([A-Z][A-Z0-9]{2})/.exec(expression);
  if (hl7) return `hl7Groups(${hl7[1]}, "${hl7[2]}")`;
  const index = /^(.*?)\[\d+\]/.exec(expression);
  return index?.[1] ?? expression;
}

/** The last name in an expression, for a line that has none yet. */
export function nameOf(expression: string): string {
  const hl7 = /^hl7\w*\([^,]+, "([^"]+)"\)$/.exec(expression);
  if (hl7?.[1]) return hl7[1];
  return (
    expression
      .split(/[.\]"'[()]+/)
      .filter((s) => s && !/^\d+$/.test(s))
      .at(-1) ?? "field"
  );
}

/** The place that a new line has for a value. */
export function placeFor(as: string, expression: string, inLoop: boolean): string {
  const name = nameOf(expression);
  const plain = name.replace(/[^A-Za-z0-9_-]+/g, "_");
  if (["json", "jsonl", "multipart", "avro", "protobuf"].includes(as)) return `/${plain}`;
  if (as === "xml") return inLoop ? `/${plain}` : `/root/${plain.replace(/^(\d)/, "_$1")}`;
  if (as === "hl7") return /^[A-Z][A-Z0-9]{2}-/.test(name) ? name : "";
  return plain;
}

const words = (name: string) =>
  name
    .replace(/([a-z0-9])([A-Z])/g, "$1 $2")
    .toLowerCase()
    .split(/[^a-z0-9]+/)
    .filter(Boolean)
    .map((w) => (w.length > 3 ? w.replace(/s$/, "") : w)); // units are a unit

/** A value that may be picked: how it is read, and what it is called. */
export type Source = { expression: string; name: string; title?: string; value?: string; list?: boolean };

/** How alike two names are, from 0 to 1. */
export function alike(a: string, b: string): number {
  const [x, y] = [words(a), words(b)];
  if (x.length === 0 || y.length === 0) return 0;
  if (x.join("") === y.join("")) return 1;
  const common = x.filter((w) => y.includes(w)).length;
  const head = x.at(-1) === y.at(-1) ? 0.1 : 0; // what a name is of stands last: Observation Value is a value
  return (2 * common) / (x.length + y.length + 1) + head;
}

/** The value that is most like a line, where one is like it at all. */
export function likeliest(name: string, title: string | undefined, sources: Source[]): Source | undefined {
  let best: Source | undefined;
  let most = 0.49;
  const part = title?.split(", ").at(-1); // of “Patient Name, family name” what it is a part of says less
  for (const s of sources) {
    const n = Math.max(
      alike(name, s.name),
      s.title ? alike(name, s.title) : 0,
      title ? alike(title, s.name) * 0.9 : 0,
      part ? alike(part, s.name) : 0,
      title && s.title ? alike(title, s.title) : 0,
    );
    if (n > most) {
      best = s;
      most = n;
    }
  }
  return best;
}

/** The values of a loop's items, as its fields say them. */
export const itemSources = (all: Source[], loop: Loop): Source[] =>
  all.flatMap((s) => {
    const e = within(s.expression, [loop]);
    return e === s.expression ? [] : [{ ...s, expression: e }];
  });

/** What the fields of a loop see besides: the item with its values, and its number. */
export const loopCompletions = (all: Source[], loops: Loop[]) =>
  loops.flatMap((l) => [
    { label: l.as, detail: `each of ${l.each}` },
    ...itemSources(all, l).map((s) => ({ label: s.expression, detail: s.value ?? "here" })),
    { label: "index", detail: "its number, from 0" },
  ]);

/** A path as it is outside of the loops around it, for the first item of each. */
export function outside(path: string, loops: Loop[]): string {
  let out = path;
  for (const l of [...loops].reverse()) {
    const g = /^hl7Groups\((\w[\w.]*), "([A-Z][A-Z0-9]{2})"\)$/.exec(l.each);
    out = g
      ? out.replace(new RegExp(`^hl7\\(${l.as}, `), `hl7(${g[1]}, `)
      : out.replace(new RegExp(`^${l.as}(?=$|[.[])`), `${l.each.replace(/^many\((.*)\)$/, "$1")}[0]`);
  }
  return out;
}
