import { useCallback, useEffect, useRef, useState } from "react";
import { type FlowDocument, freshID, type Place, rowsOf, type Step, type Way } from "./model";

// biome-ignore lint/suspicious/noExplicitAny: a document is a tree of maps and lists
type Tree = any;

/** A copy of a tree in which the value at a place is what change makes of it; undefined removes it. */
export function update(tree: Tree, place: Place, change: (v: Tree) => Tree): Tree {
  const [head, ...rest] = place;
  if (head === undefined) return change(tree);
  const copy: Tree = Array.isArray(tree) ? [...tree] : { ...tree };
  const next = update(copy[head], rest, change);
  if (next === undefined) {
    if (Array.isArray(copy)) copy.splice(head as number, 1);
    else delete copy[head];
  } else copy[head] = next;
  return copy;
}

export const at = (tree: Tree, place: Place): Tree => place.reduce((t, k) => t?.[k], tree);

/** Puts a step behind the one at a place, or at the beginning of the flow or way at it. */
export function insertStep(doc: FlowDocument, place: Place, step: Step): { doc: FlowDocument; place: Place } {
  const last = place.at(-1);
  if (place[0] === "intake")
    return { doc: update(doc, ["steps"], (l: Step[]) => [step, ...(l ?? [])]), place: ["steps", 0] };
  if (typeof last === "number" && place.at(-2) === "steps") {
    const list = place.slice(0, -1);
    const to = last + 1;
    return { doc: update(doc, list, (l: Step[]) => [...l.slice(0, to), step, ...l.slice(to)]), place: [...list, to] };
  }
  const list = last === "steps" ? place : [...place, "steps"]; // a way, or each part: its first step
  return { doc: update(doc, list, (l: Step[]) => [step, ...(l ?? [])]), place: [...list, 0] };
}

export const removeAt = (doc: FlowDocument, place: Place): FlowDocument => update(doc, place, () => undefined);

/** Moves a step or way up or down among its neighbours. */
export function move(doc: FlowDocument, place: Place, by: -1 | 1): { doc: FlowDocument; place: Place } | null {
  const i = place.at(-1);
  const list = place.slice(0, -1);
  const all = at(doc, list);
  if (typeof i !== "number" || !Array.isArray(all) || i + by < 0 || i + by >= all.length) return null;
  const moved = [...all];
  [moved[i], moved[i + by]] = [moved[i + by], moved[i]];
  return { doc: update(doc, list, () => moved), place: [...list, i + by] };
}

/** Gives copies of steps with ids that a document does not have, nor another of the copies. */
function renaming(doc: FlowDocument): (s: Step) => Step {
  let grown = doc;
  const renamed = (s: Step): Step => {
    const id = freshID(grown, s.id);
    const copy: Step = { ...s, id };
    grown = { ...grown, steps: [...(grown.steps ?? []), { id, kind: "note" }] }; // so that the next one is told apart
    if (s.ways) copy.ways = (s.ways as Way[]).map((w) => ({ ...w, steps: (w.steps ?? []).map(renamed) }));
    if (s.else?.steps) copy.else = { ...s.else, steps: (s.else.steps as Step[]).map(renamed) };
    if (s.kind === "split") copy.steps = ((s.steps ?? []) as Step[]).map(renamed);
    if (s.otherwise) copy.otherwise = { ...s.otherwise, steps: (s.otherwise.steps ?? []).map(renamed) };
    return copy;
  };
  return renamed;
}

/** A copy of a way with a name that none of the others has. */
function renamedWay(way: Way, among: Way[], renamed: (s: Step) => Step): Way {
  const names = new Set(among.map((w) => w.name));
  let name = way.name;
  for (let n = 2; names.has(name); n++) name = `${way.name}-${n}`;
  return { ...way, name, steps: (way.steps ?? []).map(renamed) };
}

/** Puts copied steps behind the row at a place, or copied ways behind the way or into the route there. */
export function paste(doc: FlowDocument, place: Place, copied: Copied): { doc: FlowDocument; place: Place } | null {
  const renamed = renaming(doc);
  if (copied.steps) {
    let [grown, last]: [FlowDocument, Place] = [doc, place];
    for (const step of copied.steps.map(renamed)) {
      const r = insertStep(grown, last, step);
      [grown, last] = [r.doc, r.place];
    }
    return { doc: grown, place: last };
  }
  const list = place.at(-2) === "ways" ? place.slice(0, -1) : at(doc, [...place, "ways"]) ? [...place, "ways"] : null;
  if (!list) return null;
  const behind = place.at(-2) === "ways" ? (place.at(-1) as number) + 1 : at(doc, list).length;
  let grown = doc;
  copied.ways.forEach((way, i) => {
    const copy = renamedWay(way, at(grown, list), renamed);
    grown = update(grown, list, (l: Way[]) => [...l.slice(0, behind + i), copy, ...l.slice(behind + i)]);
  });
  return { doc: grown, place: [...list, behind + copied.ways.length - 1] };
}

/** Steps or ways as they stand on the clipboard. */
export type Copied = { steps: Step[]; ways?: undefined } | { steps?: undefined; ways: Way[] };

/** What was read from a clipboard, where it is steps or ways. */
export function copiedOf(v: unknown): Copied | null {
  const list = Array.isArray(v) ? v : [v];
  const all = (fits: (x: Tree) => boolean) =>
    list.length > 0 && list.every((x) => x && typeof x === "object" && fits(x));
  if (all((x) => typeof x.id === "string" && typeof x.kind === "string")) return { steps: list };
  if (all((x) => typeof x.name === "string" && Array.isArray(x.steps))) return { ways: list };
  return null;
}

/** Copies a step with all that is in it, or a way with all its steps; ids stay unique. */
export function duplicate(doc: FlowDocument, place: Place): { doc: FlowDocument; place: Place } | null {
  const i = place.at(-1);
  const list = place.slice(0, -1);
  if (typeof i !== "number") return null;
  const renamed = renaming(doc);
  const original = at(doc, place);
  const copy: Step | Way = list.at(-1) === "ways" ? renamedWay(original, at(doc, list), renamed) : renamed(original);
  const doc2 = update(doc, list, (l: Tree[]) => [...l.slice(0, i + 1), copy, ...l.slice(i + 1)]);
  return { doc: doc2, place: [...list, i + 1] };
}

type State<T> = { past: T[]; present: T; future: T[] };

// What was done to each thing, while this page is open: whoever looks at other pages in between can still undo.
const kept = new Map<string, State<unknown>>();

/**
 * A value with undo and redo over the whole session, over visits to other pages as well, as long as it is what it was
 * when it was left. Changes with the same mark that come close together are one step back.
 */
export function useHistory<T>(name: string, initial: T, what: (v: T) => unknown) {
  const [state, setState] = useState<State<T>>(() => {
    const before = kept.get(name) as State<T> | undefined;
    return before && JSON.stringify(what(before.present)) === JSON.stringify(what(initial))
      ? before
      : { past: [], present: initial, future: [] };
  });
  useEffect(() => {
    kept.set(name, state);
  }, [name, state]);
  const last = useRef({ mark: "", at: 0 });
  const change = useCallback((next: T, mark = "") => {
    const now = Date.now();
    const merge = mark !== "" && last.current.mark === mark && now - last.current.at < 1200;
    last.current = { mark, at: now };
    setState((s) =>
      s.present === next ? s : { past: merge ? s.past : [...s.past, s.present].slice(-500), present: next, future: [] },
    );
  }, []);
  const undo = useCallback(() => {
    last.current = { mark: "", at: 0 };
    setState((s) => {
      const before = s.past.at(-1);
      return before === undefined
        ? s
        : { past: s.past.slice(0, -1), present: before, future: [s.present, ...s.future] };
    });
  }, []);
  const redo = useCallback(() => {
    last.current = { mark: "", at: 0 };
    setState((s) => {
      const [next, ...rest] = s.future;
      return next === undefined ? s : { past: [...s.past, s.present], present: next, future: rest };
    });
  }, []);
  // What others did is under all of one's own changes, the earlier ones as well: none of them undoes it.
  const rebase = useCallback((next: T, over: (earlier: T) => T) => {
    last.current = { mark: "", at: 0 };
    setState((s) => {
      const past: T[] = [];
      for (const one of [...s.past.map(over), next])
        if (JSON.stringify(past.at(-1)) !== JSON.stringify(one)) past.push(one);
      return { past: past.slice(0, -1), present: next, future: [] };
    });
  }, []);
  return {
    present: state.present,
    before: state.past.at(-1),
    after: state.future[0],
    change,
    rebase,
    undo,
    redo,
    canUndo: state.past.length > 0,
    canRedo: state.future.length > 0,
  };
}

export const samePlace = (a: Place, b: Place) => a.length === b.length && a.every((k, i) => k === b[i]);

export const rowAt = (doc: FlowDocument, place: Place) => rowsOf(doc).findIndex((r) => samePlace(r.place, place));
