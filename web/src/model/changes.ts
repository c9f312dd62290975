import { type FlowDocument, type Row, rowsOf } from "./model";

/** A setting that is another than it was; null where there was or is none. */
export type SettingChange = { name: string; was: string | null; is: string | null };

/** What has become of a row of the sheet. */
export type Change = { kind: "added" | "removed" | "changed" | "moved"; row: Row; settings: SettingChange[] };

// What stands in rows of its own, or is the row's name.
const apart = new Set(["id", "kind", "steps", "ways", "otherwise"]);

/** A value as people read it in a sentence. */
function words(v: unknown): string {
  if (typeof v === "string") return v;
  if (Array.isArray(v)) return v.map(words).join(", ");
  if (v && typeof v === "object")
    return Object.entries(v)
      .map(([k, x]) => `${k}: ${words(x)}`)
      .join(", ");
  return JSON.stringify(v) ?? "";
}

const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

/** The settings that differ, lists item by item: of forty lines of a map, the two that are others. */
function settingsOf(was: Record<string, unknown>, is: Record<string, unknown>): SettingChange[] {
  const names = [...new Set([...Object.keys(was), ...Object.keys(is)])];
  return names.flatMap((name): SettingChange[] => {
    const [a, b] = [was[name], is[name]];
    if (same(a, b)) return [];
    if (Array.isArray(a) && Array.isArray(b)) {
      const gone = a.filter((x) => !b.some((y) => same(x, y)));
      const come = b.filter((y) => !a.some((x) => same(x, y)));
      if (!gone.length && !come.length) return [{ name, was: "in another order", is: "in this order" }];
      return Array.from({ length: Math.max(gone.length, come.length) }, (_, i) => ({
        name,
        was: i < gone.length ? words(gone[i]) : null,
        is: i < come.length ? words(come[i]) : null,
      }));
    }
    return [{ name, was: a === undefined ? null : words(a), is: b === undefined ? null : words(b) }];
  });
}

/** The settings of a row, without what stands in rows of its own. */
function own(row: Row, doc: FlowDocument): Record<string, unknown> {
  if (row.kind === "intake") return { ...doc.intake };
  if (row.kind === "way") return row.fixed || row.split ? {} : { when: row.way.when, note: row.way.note };
  const { step } = row;
  const kept = Object.fromEntries(Object.entries(step).filter(([k]) => !apart.has(k)));
  if (step.else?.steps) kept.else = step.else.then ?? "other steps";
  return kept;
}

/** What differs between two documents of a flow, row by row, those that are gone where they stood. */
export function changesOf(was: FlowDocument, is: FlowDocument): { flow: SettingChange[]; rows: Change[] } {
  const top = (d: FlowDocument) =>
    Object.fromEntries(Object.entries(d).filter(([k]) => !["steps", "intake", "on-dead-letter", "name"].includes(k)));
  const [before, after] = [rowsOf(was), rowsOf(is)];
  const kindOf = (r: Row) => (r.kind === "step" ? r.step.kind : r.kind);
  const name = (r: Row) => `${kindOf(r)} ${r.key}`;
  const then = new Map(before.map((r) => [name(r), r]));
  const now = new Set(after.map(name));
  const rows: Change[] = [];
  const stay = before.filter((r) => now.has(name(r))).map(name);
  const order = after.filter((r) => then.has(name(r))).map(name);
  const moved = movedIn(stay, order);
  for (const row of after) {
    const old = then.get(name(row));
    if (!old) {
      if (!(row.kind === "way" && (row.split || row.fixed))) rows.push({ kind: "added", row, settings: [] });
      continue;
    }
    const settings = settingsOf(own(old, was), own(row, is));
    if (settings.length) rows.push({ kind: "changed", row, settings });
    else if (moved.has(name(row))) rows.push({ kind: "moved", row, settings: [] });
  }
  for (const row of before) {
    if (now.has(name(row)) || (row.kind === "way" && (row.split || row.fixed))) continue;
    const at = rows.findIndex((c) => c.row.n >= row.n && c.kind !== "removed");
    rows.splice(at < 0 ? rows.length : at, 0, { kind: "removed", row, settings: [] });
  }
  return { flow: settingsOf(top(was), top(is)), rows };
}

/** Those that have to be taken out for the rest to stand in the same order: all but a longest common run. */
function movedIn(a: string[], b: string[]): Set<string> {
  const place = new Map(b.map((x, i) => [x, i]));
  const best: number[] = [];
  const from: number[] = [];
  a.forEach((x, i) => {
    best[i] = 1;
    from[i] = -1;
    for (let j = 0; j < i; j++) {
      const sooner = (place.get(a[j] ?? "") ?? 0) < (place.get(x) ?? 0);
      if (sooner && (best[j] ?? 0) + 1 > (best[i] ?? 0)) {
        best[i] = (best[j] ?? 0) + 1;
        from[i] = j;
      }
    }
  });
  const stays = new Set<string>();
  for (let i = best.indexOf(Math.max(0, ...best)); i >= 0; i = from[i] ?? -1) stays.add(a[i] ?? "");
  return new Set(a.filter((x) => !stays.has(x)));
}
