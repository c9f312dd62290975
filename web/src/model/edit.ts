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

/** Copies a step with all that is in it, or a way with all its steps; ids stay unique. */
export function duplicate(doc: FlowDocument, place: Place): { doc: FlowDocument; place: Place } | null {
  const i = place.at(-1);
  const list = place.slice(0, -1);
  if (typeof i !== "number") return null;
  let grown = doc;
  const renamed = (s: Step): Step => {
    const id = freshID(grown, s.id);
    const copy: Step = { ...s, id };
    grown = { ...grown, steps: [...grown.steps, { id, kind: "note" }] }; // so that the next one is told apart
    if (s.ways) copy.ways = (s.ways as Way[]).map((w) => ({ ...w, steps: w.steps.map(renamed) }));
    if (s.else?.steps) copy.else = { steps: (s.else.steps as Step[]).map(renamed) };
    if (s.kind === "split") copy.steps = (s.steps as Step[]).map(renamed);
    if (s.otherwise) copy.otherwise = { ...s.otherwise, steps: s.otherwise.steps.map(renamed) };
    return copy;
  };
  const original = at(doc, place);
  let copy: Step | Way;
  if (list.at(-1) === "ways") {
    const names = new Set((at(doc, list) as Way[]).map((w) => w.name));
    let name = `${original.name}-2`;
    for (let n = 3; names.has(name); n++) name = `${original.name}-${n}`;
    copy = { ...original, name, steps: original.steps.map(renamed) };
  } else copy = renamed(original);
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
  return {
    present: state.present,
    change,
    undo,
    redo,
    canUndo: state.past.length > 0,
    canRedo: state.future.length > 0,
  };
}

export const samePlace = (a: Place, b: Place) => a.length === b.length && a.every((k, i) => k === b[i]);

export const rowAt = (doc: FlowDocument, place: Place) => rowsOf(doc).findIndex((r) => samePlace(r.place, place));
