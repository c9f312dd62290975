import { useMemo, useState } from "react";
import { type Cell, cellOf, type Row, type Told } from "../model/model";

/** What is folded on a sheet: the keys of a row and of those behind it that it stands for. */
type Fold = string[];

const read = (flow: string): Fold[] => {
  try {
    return JSON.parse(localStorage.getItem(`folds ${flow}`) ?? "[]") as Fold[];
  } catch {
    return [];
  }
};

/** The rows that stand inside a row: of its ways, of each part, of its else. */
function insideOf(rows: Row[], at: number): Row[] {
  const depth = rows[at]?.depth ?? 0;
  const out: Row[] = [];
  for (let i = at + 1; i < rows.length && (rows[i]?.depth ?? 0) > depth; i++) out.push(rows[i] as Row);
  return out;
}

/** Rows of a sheet of which some are folded away, as this browser remembers. */
export function useFolds(flow: string, rows: Row[]) {
  const [folds, setFolds] = useState<Fold[]>(() => read(flow));
  const keep = (next: Fold[]) => {
    setFolds(next);
    localStorage.setItem(`folds ${flow}`, JSON.stringify(next));
  };
  const { shown, hidden } = useMemo(() => {
    const at = new Map(rows.map((r, i) => [r.key, i]));
    const hidden = new Map<string, Row[]>();
    const gone = new Set<Row>();
    for (const fold of folds) {
      const [first, ...rest] = fold.map((k) => at.get(k));
      if (first === undefined || rest.some((i) => i === undefined)) continue; // it is not as it was
      const under = [...insideOf(rows, first)];
      for (const i of rest) under.push(rows[i as number] as Row, ...insideOf(rows, i as number));
      if (under.length === 0) continue;
      hidden.set(rows[first]?.key ?? "", under);
      for (const r of under) gone.add(r);
    }
    return { shown: rows.filter((r) => !gone.has(r)), hidden };
  }, [rows, folds]);
  return {
    shown,
    hidden,
    /** Whether something stands inside a row that can be folded away. */
    can: (row: Row) => insideOf(rows, rows.indexOf(row)).length > 0,
    /** Folds a row, or the rows of a stretch, away or back. */
    toggle: (row: Row, stretch: string[] = [row.key]) => {
      const open = folds.filter((f) => f[0] !== row.key);
      keep(open.length < folds.length ? open : [...folds, stretch]);
    },
    /** Shows a row wherever it stands. */
    reveal: (key: string) => {
      const open = folds.filter((f) => !(hidden.get(f[0] ?? "") ?? []).some((r) => r.key === key));
      if (open.length < folds.length) keep(open);
    },
  };
}

const worst = ["", "delivered", "turned away", "waiting", "dead letter"];

/** What a row and those that are folded into it did to a message: the most troubled of them. */
export function foldedCell(row: Row, under: Row[] | undefined, told: Told | undefined): Cell {
  const own = cellOf(row, told);
  if (!under) return own;
  return under
    .map((r) => cellOf(r, told))
    .filter((c) => c.reached)
    .reduce((a, b) => (worst.indexOf(b.state) > worst.indexOf(a.state) ? { ...b, reached: true } : a), own);
}
