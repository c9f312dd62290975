import { useMemo, useState } from "react";
import { toast } from "sonner";
import { at, duplicate, insertStep, move, removeAt, rowAt, update } from "../model/edit";
import { type FlowDocument, freshID, type Place, type Row, rowsOf, type Step } from "../model/model";
import { type Gap, gapsBelow, moveSteps, nudge, outermost, removeSteps } from "../model/restructure";
import { useFolds } from "../sheet/folds";
import type { Focus, Key } from "../sheet/sheet";

type Given = {
  name: string;
  doc: FlowDocument;
  rows: Row[];
  put: (doc: FlowDocument, mark?: string) => void;
  undo: () => void;
};

/** What is looked at and chosen on a sheet, and what keys and the mouse do to it. */
export function useEditing({ name, doc, rows, put, undo }: Given) {
  const [focus, setFocus] = useState<Focus>({ row: 0, column: 0 });
  const [hurried, setHurried] = useState(false);
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [adding, setAdding] = useState(false);
  const folds = useFolds(name, rows);
  const { shown } = folds;
  const row: Row | undefined = shown[Math.min(focus.row, shown.length - 1)];
  // Steps that are chosen together, or the one that is looked at.
  const places = useMemo(() => {
    const all = rows.filter((r) => chosen.has(r.key) && r.kind === "step").map((r) => r.place);
    return all.length > 1 ? outermost(all) : [];
  }, [rows, chosen]);
  const many = places.length > 1;
  const both = many ? places : row?.kind === "step" ? [row.place] : [];

  const goTo = (next: FlowDocument, place: Place) => {
    const to = rowsOf(next)[rowAt(next, place)];
    if (to) folds.reveal(to.key);
    // A row that stands behind folded ones is as many earlier.
    const hidden = [...folds.hidden.values()].flat().map((r) => r.key);
    const before = rowsOf(next)
      .slice(0, rowAt(next, place))
      .filter((r) => !hidden.includes(r.key)).length;
    setFocus((f) => ({ ...f, row: Math.max(0, before) }));
  };
  /** Where a step stands in a document, by its id. */
  const goToStep = (next: FlowDocument, id: string) => {
    const to = rowsOf(next).find((r) => r.kind === "step" && r.step.id === id);
    if (to) goTo(next, to.place);
  };
  const firstID = (of: Place[]) => (at(doc, of[0] ?? []) as Step | undefined)?.id ?? "";
  const putMoved = (next: FlowDocument | null, of: Place[]) => {
    if (!next) return;
    put(next);
    goToStep(next, firstID(of));
    if (many) {
      const ids = new Set(of.map((p) => (at(doc, p) as Step).id));
      const after = rowsOf(next).filter((r) => r.kind === "step" && ids.has(r.step.id));
      setChosen(new Set(after.map((r) => r.key)));
    }
  };

  const add = (step: Partial<Step> & { kind: string }) => {
    if (!row) return;
    const one = { ...step, id: freshID(doc, step.kind) } as Step;
    const r = insertStep(doc, row.place, one);
    put(r.doc);
    goTo(r.doc, r.place);
    setAdding(false);
  };
  const remove = () => {
    const gone = { action: { label: "Undo", onClick: undo } };
    if (many) {
      put(removeSteps(doc, places));
      setChosen(new Set());
      toast(`${places.length} steps are gone`, gone);
      return;
    }
    if (!row || row.kind === "intake" || (row.kind === "way" && row.split)) return;
    const fixed = row.kind === "way" && row.fixed; // with its map around it
    put(removeAt(doc, fixed ? row.place.slice(0, -1) : row.place));
    toast(row.kind === "way" ? `The way ${row.way.name} is gone` : `The step ${row.step.id} is gone`, gone);
  };
  const nudged = (by: -1 | 1) => {
    if (row?.kind === "way" && !many) {
      const r = move(doc, row.place, by);
      if (!r) return;
      put(r.doc);
      goTo(r.doc, r.place);
      return;
    }
    putMoved(nudge(doc, both, by), both);
  };
  const switchOff = () => {
    const off = both.every((p) => (at(doc, p) as Step).off);
    put(
      both.reduce(
        (d, p) => update(d, p, (s: Step) => (off ? (({ off: _, ...rest }) => rest)(s) : { ...s, off: true })),
        doc,
      ),
    );
  };
  const fold = (of: Row | undefined = row) => {
    if (!of) return;
    const together = rows.filter((r) => chosen.has(r.key) && r.kind === "step");
    const siblings =
      together.length > 1 &&
      together.every((r) => String(r.place.slice(0, -1)) === String(together[0]?.place.slice(0, -1)));
    if (of === row && siblings && together[0]) {
      folds.toggle(
        together[0],
        together.map((r) => r.key),
      );
      setChosen(new Set());
      setFocus((f) => ({ ...f, row: shown.indexOf(together[0] as Row) }));
      return;
    }
    folds.toggle(of);
  };
  const choose = (i: number, how: "one" | "more" | "through") => {
    const key = shown[i]?.key ?? "";
    if (how === "one") setChosen(new Set());
    else if (how === "more") {
      const next = new Set(chosen.size ? chosen : row ? [row.key] : []);
      if (!next.delete(key)) next.add(key);
      setChosen(next);
    } else {
      const [a, b] = [Math.min(focus.row, i), Math.max(focus.row, i)];
      setChosen(new Set(shown.slice(a, b + 1).map((r) => r.key)));
      return; // the row from which it goes stays looked at
    }
    setFocus((f) => ({ ...f, row: i }));
  };
  /** Keys of the sheet; true where one was taken. */
  const onKey = (e: Key): boolean => {
    if (!row) return false;
    const take = (does: () => void) => {
      e.preventDefault();
      does();
      return true;
    };
    if (e.altKey && e.key === "ArrowUp") return take(() => nudged(-1));
    if (e.altKey && e.key === "ArrowDown") return take(() => nudged(1));
    if (e.ctrlKey || e.metaKey || e.altKey) return false;
    if (e.key === "a") return take(() => setAdding(true));
    if (e.key === "d" && row.kind !== "intake")
      return take(() => {
        const r = duplicate(doc, row.place);
        if (!r) return;
        put(r.doc);
        goTo(r.doc, r.place);
      });
    if (e.key === "x" && both.length) return take(switchOff);
    if (e.key === "f") return take(() => fold());
    if (e.key === "Escape" && chosen.size) return take(() => setChosen(new Set()));
    if (e.key === "Delete") return take(remove);
    return false;
  };
  /** Shift with an arrow chooses more rows. */
  const onFocus = (f: Focus, extend = false, byKey = false) => {
    setHurried(byKey);
    if (!extend) setChosen(new Set());
    else {
      const from = chosen.size ? chosen : new Set(row ? [row.key] : []);
      const next = new Set(from);
      const key = shown[f.row]?.key ?? "";
      if (next.has(key) && row) next.delete(row.key);
      else next.add(key);
      setChosen(next);
    }
    setFocus(f);
  };
  const drag = {
    gaps: (i: number) => {
      const of = shown[i];
      const under = of ? (folds.hidden.get(of.key) ?? []) : [];
      const last = under.at(-1) ?? of;
      return last ? gapsBelow(doc, rows, rows.indexOf(last)) : [];
    },
    drop: (from: number, to: Gap) => {
      const of = shown[from];
      if (!of) return;
      const moved = many && chosen.has(of.key) ? places : [of.place];
      const next = moveSteps(doc, moved, to);
      if (next) putMoved(next, moved);
      else toast("A step cannot stand inside itself");
    },
  };
  return {
    focus,
    hurried,
    setFocus,
    onFocus,
    row,
    chosen,
    choose,
    clear: () => setChosen(new Set()),
    places,
    many,
    both,
    folds,
    fold,
    goTo,
    goToStep,
    adding,
    setAdding,
    add,
    remove,
    onKey,
    drag,
  };
}
