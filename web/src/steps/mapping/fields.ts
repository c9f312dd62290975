import type { Schemas } from "../../api/client";

export type TargetLine = Schemas["TargetLine"];

/** A field of a map, a loop with each, or a group of fields with when. */
export type MapField = {
  to?: string;
  from?: string;
  missing?: string;
  default?: string;
  raw?: boolean;
  note?: string;
  when?: string;
  each?: string;
  as?: string;
  where?: string;
  sort?: string;
  descending?: boolean;
  fields?: MapField[];
};

/** Where a field stands: its number, and those of the loops and groups around it. */
export type At = number[];

export const isGroup = (f: MapField) => f.each === undefined && f.fields !== undefined;
export const isLoop = (f: MapField) => f.each !== undefined;

export const fieldAt = (fields: MapField[], at: At): MapField | undefined =>
  at.slice(1).reduce<MapField | undefined>((f, i) => f?.fields?.[i], fields[at[0] ?? 0]);

/** A copy of the fields in which the list that holds a place is what change makes of it. */
export function changeList(
  fields: MapField[],
  at: At,
  change: (list: MapField[], i: number) => MapField[],
): MapField[] {
  const [i = 0, ...rest] = at;
  if (rest.length === 0) return change(fields, i);
  return fields.map((f, j) => (j === i ? { ...f, fields: changeList(f.fields ?? [], rest, change) } : f));
}

const clean = (f: MapField): MapField =>
  Object.fromEntries(Object.entries(f).filter(([, v]) => v !== undefined)) as MapField;

/** A copy in which the field at a place has other parts. */
export const edited = (fields: MapField[], at: At, part: Partial<MapField>) =>
  changeList(fields, at, (l, i) => l.map((f, j) => (j === i ? clean({ ...f, ...part }) : f)));

export const removed = (fields: MapField[], at: At) => changeList(fields, at, (l, i) => l.filter((_, j) => j !== i));

export function moved(fields: MapField[], at: At, by: -1 | 1): MapField[] {
  return changeList(fields, at, (l, i) => {
    const out = [...l];
    const [a, b] = [out[i], out[i + by]];
    if (a && b) [out[i], out[i + by]] = [b, a];
    return out;
  });
}

/** A loop around a row: the list that it goes over, and the name of each item. */
export type Loop = { each: string; as: string };

/** A row of the target: a line of its shape, a field that writes it, or both. */
export type Row = {
  key: string;
  depth: number;
  /** Where the field stands; of a line that nothing writes, where it would. */
  at: At;
  field?: MapField;
  line?: TargetLine;
  /** The place as the field says it, and as the trace names it. */
  to: string;
  path: string;
  loops: Loop[];
};

/** Whether a loop of HL7, which has no place of its own, writes the segments of a line. */
const writes = (f: MapField, name: string): boolean =>
  !!f.fields?.some((x) => x.to?.startsWith(`${name}-`) || x.to === name || (x.fields && writes(x, name)));

const lineOf = (f: MapField, lines: TargetLine[], as: string): TargetLine | undefined => {
  if (!isLoop(f)) return lines.find((l) => !l.list && l.to === f.to);
  if (as === "csv" || as === "fixed") return lines.find((l) => l.list);
  if (as === "hl7") return lines.find((l) => l.list && (f.note === l.name || writes(f, l.name)));
  return lines.find((l) => l.list && l.to === f.to);
};

/** The rows of a target in its order: what nothing writes stands between, what it does not know at the end. */
export function rowsOf(fields: MapField[], lines: TargetLine[], as: string): Row[] {
  const rows: Row[] = [];
  const level = (list: MapField[], known: TargetLine[], above: At, prefix: string, depth: number, loops: Loop[]) => {
    const taken = new Map<TargetLine, number>();
    list.forEach((f, i) => {
      const line = isGroup(f) ? undefined : lineOf(f, known, as);
      if (line && !taken.has(line)) taken.set(line, i);
    });
    const inGroups = new Set<string>();
    const walk = (l: MapField[]) => {
      for (const f of l)
        if (isGroup(f)) {
          for (const x of f.fields ?? []) inGroups.add(x.to ?? "");
          walk(f.fields ?? []);
        }
    };
    walk(list);
    const put = (i: number, line?: TargetLine) => {
      const f = list[i] as MapField;
      const at = [...above, i];
      const to = f.to ?? "";
      rows.push({ key: at.join("/"), depth, at, field: f, line, to, path: prefix + to, loops });
      if (isLoop(f))
        level(f.fields ?? [], line?.lines ?? [], at, `${prefix}${to}[]`, depth + 1, [
          ...loops,
          { each: f.each ?? "", as: f.as ?? "item" },
        ]);
      else if (isGroup(f)) level(f.fields ?? [], [], at, prefix, depth + 1, loops);
    };
    // A new field stands behind those that write earlier lines.
    const behind = (line: TargetLine) => {
      const n = known.indexOf(line);
      let last = -1;
      for (const [l, i] of taken) if (known.indexOf(l) < n) last = Math.max(last, i);
      return last + 1;
    };
    // What must be there stands first; segments of HL7 stay where people look for them.
    const inOrder = as === "hl7" ? known : [...known.filter((l) => l.required), ...known.filter((l) => !l.required)];
    for (const line of inOrder) {
      const i = taken.get(line);
      if (i !== undefined) put(i, line);
      else if (!inGroups.has(line.to) || line.list)
        rows.push({
          key: `${above.join("/")}+${line.list ? "*" : ""}${line.to}${line.name}`,
          depth,
          at: [...above, behind(line)],
          line,
          to: line.to,
          path: prefix + line.to,
          loops,
        });
    }
    list.forEach((_, i) => {
      if (![...taken.values()].includes(i)) put(i);
    });
  };
  level(fields, as === "hl7" ? withFirst(fields, lines) : lines, [], "", 0, []);
  return rows;
}

/**
 * Lines of HL7 with those of the first of each group that may stand several times and that no loop writes: a message
 * about one patient has one such group, and needs no loop for it.
 */
function withFirst(fields: MapField[], lines: TargetLine[]): TargetLine[] {
  const looped = new Set(fields.filter(isLoop).map((f) => lineOf(f, lines, "hl7")));
  const seen = new Set(lines.map((l) => l.to));
  return lines.flatMap((l) => {
    if (!l.list || looped.has(l)) return [l];
    const first = (l.lines ?? []).filter((x) => !x.list && !seen.has(x.to));
    for (const x of first) seen.add(x.to);
    return [l, ...first.map((x) => ({ ...x, required: undefined }))];
  });
}
