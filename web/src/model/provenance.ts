import type { Entry, Schemas } from "../api/client";

type Field = Schemas["Field"];
type Body = Schemas["Body"];

/** The first component of HL7 stands also for a field of one component. */
const plain = (place: string) => place.replace(/\.1"\)$/, '")');

/** What the tokens of a document call the place that a map has written: a JSON Pointer, or of HL7 what reads it. */
function placeIn(body: Body, at: string): string {
  if (body.format === "hl7") return plain(`hl7(body, ${JSON.stringify(at)})`);
  if (body.format !== "xml") return at;
  let node: unknown = body.tree === undefined ? undefined : JSON.parse(body.tree);
  let out = "";
  for (const step of at.split("/").slice(1)) {
    const [, name = step, n] = /^(.*?)(?:\[(\d+)\])?$/.exec(step) ?? [];
    node = (node as Record<string, unknown> | undefined)?.[name];
    out += `/${name}`;
    if (Array.isArray(node)) {
      const i = Number(n ?? 1) - 1;
      node = node[i];
      out += `/${i}`;
    }
  }
  return out;
}

const covers = (place: string, looked: string) => place === looked || (place !== "" && looked.startsWith(`${place}/`));

/** The places before a map that the value at one place behind it came from. */
export function cameFrom(entry: Entry | undefined, looked: string | null): string[] {
  const after = entry?.after;
  if (!after || !looked) return [];
  return written(entry.fields).flatMap((f) => (covers(placeIn(after, f.at ?? ""), plain(looked)) ? f.reads : []));
}

/** The places behind a map that the value at one place before it went to. */
export function wentTo(entry: Entry | undefined, looked: string | null): string[] {
  const after = entry?.after;
  if (!after || looked === null || looked === "") return [];
  const by = (read: string) => covers(read, looked) || covers(looked, read) || plain(read) === plain(looked);
  return written(entry.fields).flatMap((f) => {
    if (!f.reads.some(by)) return [];
    const place = placeIn(after, f.at ?? "");
    return after.format === "hl7" ? [place, place.replace(/"\)$/, '.1")')] : [place];
  });
}

const written = (fields: Field[] | undefined) => (fields ?? []).filter((f) => f.outcome === "set" && f.at);
