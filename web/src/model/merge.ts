import type { FlowDocument } from "./model";

/** A setting that two people made into different things. */
export type Clash = { key: string; where: string; mine: unknown; theirs: unknown };

// biome-ignore lint/suspicious/noExplicitAny: a document is a tree of maps and lists
type Tree = any;
type Named = { [key: string]: Tree };

const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

/**
 * What two people made of one document, together: step by step and setting by setting, what only one of them changed is
 * as that one has it. Where both changed the same, it is as taken says by the key of the clash, and as the other person
 * has it where it says nothing.
 */
export function merge(
  base: FlowDocument,
  mine: FlowDocument,
  theirs: FlowDocument,
  taken: Record<string, "mine" | "theirs"> = {},
): { doc: FlowDocument; clashes: Clash[] } {
  const clashes: Clash[] = [];
  const clash = (where: string[], a: Tree, b: Tree): Tree => {
    const key = where.join("/");
    clashes.push({ key, where: where.join(" › "), mine: a, theirs: b });
    return taken[key] === "mine" ? a : b;
  };
  const either = (b: Tree, m: Tree, t: Tree, where: string[]): Tree => {
    if (same(m, t) || same(t, b)) return m;
    if (same(m, b)) return t;
    const name = where.at(-1);
    if (name === "steps" || name === "ways") return list(b ?? [], m ?? [], t ?? [], where);
    if (["intake", "otherwise", "else", "on-dead-letter", "way"].includes(name ?? "") && [b, m, t].every(isMap))
      return map(b, m, t, where);
    return clash(where, m, t);
  };
  const map = (b: Named, m: Named, t: Named, where: string[]): Named => {
    const out: Named = {};
    for (const key of new Set([...Object.keys(t), ...Object.keys(m)])) {
      const value = either(b[key], m[key], t[key], [...where, key]);
      if (value !== undefined) out[key] = value;
    }
    return out;
  };
  // Steps are told apart by their ids, ways by their names.
  const list = (b: Named[], m: Named[], t: Named[], where: string[]): Named[] => {
    const id = (x: Named) => String(x.id ?? x.name);
    const of = (all: Named[], name: string) => all.find((x) => id(x) === name);
    const reordered = !same(t.filter((x) => of(b, id(x))).map(id), b.filter((x) => of(t, id(x))).map(id));
    const [first, second] = reordered ? [t, m] : [m, t]; // whose order counts: theirs, where they have changed it
    const order = first.map(id);
    second.forEach((x, i) => {
      if (order.includes(id(x))) return;
      const before = second
        .slice(0, i)
        .map(id)
        .findLast((n) => order.includes(n));
      order.splice(before === undefined ? 0 : order.indexOf(before) + 1, 0, id(x));
    });
    return order.flatMap((name): Named[] => {
      const [was, own, other] = [of(b, name), of(m, name), of(t, name)];
      const here = [...where.slice(0, -1), name];
      if (own && other) return [map(was ?? {}, own, other, here)];
      const stays = own ?? other;
      if (!stays) return [];
      if (!was) return [stays]; // somebody has added it
      if (same(was, stays)) return []; // somebody has removed it, and nobody wanted anything of it
      const kept = clash([...here, "is there"], own, other);
      return kept ? [kept] : [];
    });
  };
  return { doc: map(base, mine, theirs, []) as FlowDocument, clashes };
}

const isMap = (v: unknown) => v !== null && typeof v === "object" && !Array.isArray(v);
