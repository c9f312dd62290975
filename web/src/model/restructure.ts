import { at, update } from "./edit";
import type { FlowDocument, Place, Row, Step, Way } from "./model";

/** A place between two steps, at the beginning or at the end of a list of steps. */
export type Gap = { list: Place; index: number; depth: number };

/** The lists of steps that stand inside a step, in reading order, with how much further in they are. */
function inside(step: Step, place: Place): { steps: Step[]; list: Place }[] {
  const out: { steps: Step[]; list: Place }[] = [];
  if (step.kind === "split") out.push({ steps: step.steps ?? [], list: [...place, "steps"] });
  if (step.else?.steps) out.push({ steps: step.else.steps, list: [...place, "else", "steps"] });
  if (step.kind === "route" || step.kind === "scatter") {
    (step.ways ?? []).forEach((w: Way, i: number) => {
      out.push({ steps: w.steps ?? [], list: [...place, "ways", i, "steps"] });
    });
    if (step.otherwise) out.push({ steps: step.otherwise.steps ?? [], list: [...place, "otherwise", "steps"] });
  }
  return out;
}

/** All gaps of a document in reading order. */
export function gapsOf(doc: FlowDocument): Gap[] {
  const out: Gap[] = [];
  const block = (steps: Step[], list: Place, depth: number) => {
    steps.forEach((step, i) => {
      out.push({ list, index: i, depth });
      for (const inner of inside(step, [...list, i])) block(inner.steps, inner.list, depth + 1);
    });
    out.push({ list, index: steps.length, depth });
  };
  block(doc.steps ?? [], ["steps"], 0);
  if (doc["on-dead-letter"]) block(doc["on-dead-letter"].steps ?? [], ["on-dead-letter", "steps"], 1);
  return out;
}

/** How a sequence of steps is taken out of a document, and put in at a gap of what is left. */
type Taken = { rest: FlowDocument; steps: Step[]; from: { list: Place; index: number } };

const starts = (a: Place, with_: Place) => with_.every((k, i) => a[i] === k);

/** Those of some places that do not stand inside another of them, in reading order. */
export function outermost(places: Place[]): Place[] {
  return places.filter((p) => !places.some((o) => o !== p && o.length < p.length && starts(p, o)));
}

/** A list without the items at some places of it, and with others at an index. */
function rebuilt(tree: unknown, here: Place, gone: Set<unknown>, put: Map<string, Map<number, Step[]>>): unknown {
  if (Array.isArray(tree)) {
    const extra = put.get(here.join("/"));
    const out: unknown[] = [];
    tree.forEach((item, i) => {
      out.push(...(extra?.get(i) ?? []));
      if (!gone.has(item)) out.push(rebuilt(item, [...here, i], gone, put));
    });
    out.push(...(extra?.get(tree.length) ?? []));
    return out;
  }
  if (tree && typeof tree === "object")
    return Object.fromEntries(Object.entries(tree).map(([k, v]) => [k, rebuilt(v, [...here, k], gone, put)]));
  return tree;
}

/** Puts the steps at some places into a gap; null where the gap stands inside one of them. */
export function moveSteps(doc: FlowDocument, places: Place[], to: Gap): FlowDocument | null {
  const roots = outermost(places);
  if (roots.some((p) => starts(to.list, p))) return null;
  const steps = roots.map((p) => at(doc, p) as Step);
  const list = at(doc, to.list) ?? [];
  const put = new Map([[to.list.join("/"), new Map([[Math.min(to.index, list.length), steps]])]]);
  return rebuilt(doc, [], new Set<unknown>(steps), put) as FlowDocument;
}

function taken(doc: FlowDocument, places: Place[]): Taken {
  const roots = outermost(places);
  const steps = roots.map((p) => at(doc, p) as Step);
  const first = roots[0] ?? [];
  return {
    rest: rebuilt(doc, [], new Set<unknown>(steps), new Map()) as FlowDocument,
    steps,
    from: { list: first.slice(0, -1), index: first.at(-1) as number },
  };
}

/** Moves steps by one gap in reading order: over a neighbour, into a way, out of it. */
export function nudge(doc: FlowDocument, places: Place[], by: -1 | 1): FlowDocument | null {
  const { rest, steps, from } = taken(doc, places);
  const gaps = gapsOf(rest);
  const now = gaps.findIndex((g) => g.index === from.index && g.list.join("/") === from.list.join("/"));
  const to = gaps[now + by];
  if (now < 0 || !to) return null;
  const put = new Map([[to.list.join("/"), new Map([[to.index, steps]])]]);
  return rebuilt(rest, [], new Set(), put) as FlowDocument;
}

/** The gaps that stand directly below a row, those further in last. */
export function gapsBelow(doc: FlowDocument, rows: Row[], row: number): Gap[] {
  const above = rows[row];
  const next = rows[row + 1];
  if (!above) return [];
  const gaps = gapsOf(doc);
  const order = new Map(rows.map((r, i) => [r.place.join("/"), i]));
  // The row behind which a gap stands: the last of the step before it, or what the list is of.
  const rowAbove = (g: Gap): number => {
    if (g.index > 0) {
      const before = [...g.list, g.index - 1].join("/");
      let last = order.get(before) ?? -1;
      for (let i = last + 1; i < rows.length && rows[i]?.place.join("/").startsWith(`${before}/`); i++) last = i;
      return last;
    }
    const of = g.list.join("/");
    return order.get(of) ?? order.get(g.list.slice(0, -1).join("/")) ?? (of === "steps" ? 0 : -1);
  };
  const here = gaps.filter((g) => rowAbove(g) === row);
  if (above.kind === "step" && next?.kind === "way" && next.depth > above.depth) return []; // its ways come first
  return here.sort((a, b) => a.depth - b.depth);
}

/** A setting of several steps: the value that all have, or that they differ. */
export function settingOf(steps: Step[], name: string): { value: unknown; differs: boolean } {
  const values = steps.map((s) => JSON.stringify(s[name]));
  return { value: steps[0]?.[name], differs: values.some((v) => v !== values[0]) };
}

/** Gives steps the same setting; undefined takes it away. */
export function setOn(doc: FlowDocument, places: Place[], name: string, value: unknown): FlowDocument {
  return places.reduce(
    (d, place) =>
      update(d, place, (s: Step) => {
        if (value !== undefined) return { ...s, [name]: value };
        const { [name]: _, ...rest } = s;
        return rest as Step;
      }),
    doc,
  );
}

/** Takes steps out; those of ways and splits go with what is in them. */
export function removeSteps(doc: FlowDocument, places: Place[]): FlowDocument {
  return taken(doc, places).rest;
}

// Where an expression names a step: what it was answered, and the body behind it.
const named = (id: string) => {
  const safe = id.replace(/[.*+?^${}()|[\]\\]/g, "\\$&");
  return new RegExp(`\\b(replies|bodies)(\\.\\??|\\[\\??["'])${safe}(?![\\w-])`, "g");
};

/** Gives a step another id, and writes it wherever expressions and settings name the step. */
export function renameStep(doc: FlowDocument, place: Place, id: string): FlowDocument {
  const old = (at(doc, place) as Step).id;
  const expression = named(old);
  // An id with a hyphen is no name of an expression: it stands in brackets.
  const plain = /^[A-Za-z_]\w*$/;
  const reference = (text: string) =>
    text.replace(expression, (_, of: string, dot: string) => {
      if (dot.startsWith("[")) return `${of}${dot}${id}`;
      return plain.test(id) ? `${of}${dot}${id}` : `${of}[${dot.includes("?") ? "?" : ""}"${id}"]`;
    });
  const walk = (v: unknown): unknown => {
    if (typeof v === "string") return reference(v);
    if (Array.isArray(v)) return v.map(walk);
    if (v && typeof v === "object") return Object.fromEntries(Object.entries(v).map(([k, x]) => [k, walk(x)]));
    return v;
  };
  const renamed = update(doc, place, (s: Step) => ({ ...s, id }));
  return walk(renamed) as FlowDocument;
}
