import { type At, changeList, edited, isLoop, type MapField, type Row, rowsOf, type TargetLine } from "./fields";
import { itemSources, listOf, type Source, within } from "./paths";

type Map = { fields: MapField[]; lines: TargetLine[]; as: string; sources: Source[] };

/** The fields of a map in which a row has what is picked, and the key of the row that is to be filled next. */
export function filled(r: Row, path: string, m: Map): { fields: MapField[]; next: string | null } | null {
  const source = within(path, r.loops);
  if (r.field && isLoop(r.field)) return { fields: edited(m.fields, r.at, { each: source }), next: null };
  if (r.field) {
    const fields = edited(m.fields, r.at, { from: source });
    return { fields, next: r.line ? nextUnset(fields, r.path, m) : null };
  }
  if (!r.line) return null;
  if (r.line.list) return looped(r, r.line, path, m);
  const fields = inserted(m.fields, r.at, { to: r.to, from: source });
  return { fields, next: nextUnset(fields, r.path, m) };
}

/** Fields with one more at a place. */
export const inserted = (fields: MapField[], at: At, f: MapField) =>
  changeList(fields, at, (l, i) => [...l.slice(0, i), f, ...l.slice(i)]);

/** The next line that nothing writes, behind a place in the document. */
function nextUnset(fields: MapField[], path: string, m: Map): string | null {
  const rows = rowsOf(fields, m.lines, m.as);
  const here = rows.findIndex((r) => r.path === path && r.field);
  return rows.slice(here + 1).find((r) => !r.field)?.key ?? null;
}

/** A list onto a list: a loop whose lines of the same names as values of an item are filled with it. */
function looped(r: Row, line: TargetLine, path: string, m: Map): { fields: MapField[]; next: string | null } {
  const source = within(path, r.loops);
  const list = m.sources.some((s) => s.expression === path && !s.list) ? listOf(source) : source;
  const each = /\[\d+\]$/.test(list) ? listOf(list) : list;
  const inner = itemSources(m.sources, { each: path === source ? each : listOf(path), as: "item" });
  const matched = (line.lines ?? []).flatMap((l): MapField[] => {
    if (l.list) return [];
    if (m.as === "hl7" && l.title?.startsWith("Set ID")) return [{ to: l.to, from: "index + 1" }];
    const s = inner.find((x) => x.name.toLowerCase() === l.name.toLowerCase());
    return s ? [{ to: l.to, from: s.expression }] : [];
  });
  const f: MapField = { ...(["csv", "hl7", "fixed"].includes(m.as) ? {} : { to: r.to }), each, fields: matched };
  if (m.as === "hl7") f.note = line.name; // it has no place of its own: which line it is of is known by this
  if (r.loops.length) f.as = `item${r.loops.length + 1}`;
  const fields = inserted(m.fields, r.at, f);
  const rows = rowsOf(fields, m.lines, m.as);
  const mine = rows.findIndex((x) => x.field === f || (x.at.join() === r.at.join() && x.field && isLoop(x.field)));
  return { fields, next: rows.slice(mine + 1).find((x) => !x.field && x.depth > r.depth)?.key ?? null };
}
