import type { MapField } from "./fields";

const place = "lines of a map";

/** Lines of a map as text: JSON, which a flow's file takes as well. */
export const textOf = (fields: MapField[]) => JSON.stringify(fields, null, 2);

/** Keeps lines at hand for other maps, in whichever window. */
export const carry = (fields: MapField[]) => localStorage.setItem(place, textOf(fields));

/** The lines that were copied last; none where there are none. */
export const carried = (): MapField[] => linesOf(localStorage.getItem(place) ?? "") ?? [];

const isLine = (v: unknown): v is MapField => {
  if (typeof v !== "object" || v === null || Array.isArray(v)) return false;
  const f = v as Record<string, unknown>;
  const texts = ["to", "from", "each", "as", "when", "where", "sort", "default", "missing", "note"];
  return (
    ["from", "each", "fields"].some((k) => k in f) &&
    texts.every((k) => f[k] === undefined || typeof f[k] === "string") &&
    (f.fields === undefined || (Array.isArray(f.fields) && f.fields.every(isLine)))
  );
};

/** Lines out of a text; undefined where it is something else. */
export function linesOf(text: string): MapField[] | undefined {
  try {
    const v = JSON.parse(text) as unknown;
    return Array.isArray(v) && v.length > 0 && v.every(isLine) ? v : undefined;
  } catch {
    return undefined;
  }
}

/** A map with lines besides its own: one that writes where one of these does takes its place. */
export function withLines(fields: MapField[], more: MapField[]): { fields: MapField[]; replaced: number } {
  const same = (a: MapField, b: MapField) =>
    !!a.to && a.to === b.to && (a.each !== undefined) === (b.each !== undefined);
  let replaced = 0;
  const kept = fields.map((f) => {
    const now = more.find((m) => same(f, m));
    if (now && JSON.stringify(now) !== JSON.stringify(f)) replaced++;
    return now ?? f;
  });
  return { fields: [...kept, ...more.filter((m) => !fields.some((f) => same(f, m)))], replaced };
}
