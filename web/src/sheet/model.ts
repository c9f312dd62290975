import type { Entry, Rehearsal } from "../api/client";

export type Step = {
  id: string;
  kind: string;
  title?: string;
  note?: string;
  when?: string;
  off?: boolean;
  // biome-ignore lint/suspicious/noExplicitAny: a step's settings are whatever its kind has
  [setting: string]: any;
};
export type Way = { name: string; when?: string; note?: string; steps: Step[] };
export type Intake = {
  kind: string;
  path?: string;
  queue?: string;
  topic?: string;
  subscription?: string;
  begin?: string | { time?: string; offset?: number };
  methods?: string[];
  callers?: string[];
  once?: string;
  reference?: string;
  order?: string;
  format?: string;
  [setting: string]: unknown;
};
export type FlowDocument = {
  readyferry: string;
  name: string;
  title?: string;
  note?: string;
  intake: Intake;
  steps: Step[];
};

/** Where a step or way stands: keys and indexes from the document's root. */
export type Place = (string | number)[];

export type Row =
  | { kind: "intake"; key: string; n: number; depth: 0; place: Place; pointer: string }
  | { kind: "step"; key: string; n: number; depth: number; place: Place; pointer: string; step: Step; off: boolean }
  | {
      kind: "way";
      key: string;
      n: number;
      depth: number;
      place: Place;
      pointer: string;
      route: Step;
      routeKey: string;
      way: Way;
      otherwise: boolean;
      off: boolean;
    };

const pointer = (p: Place) => `/${p.join("/")}`;

/** The rows of a document in reading order. Keys are the paths of the trace. */
export function rowsOf(doc: FlowDocument): Row[] {
  const rows: Row[] = [{ kind: "intake", key: "", n: 1, depth: 0, place: ["intake"], pointer: "/intake" }];
  const block = (steps: Step[], place: Place, prefix: string, depth: number, off: boolean) => {
    (steps ?? []).forEach((step, i) => {
      const here = [...place, i];
      const key = prefix + step.id;
      const stepOff = off || !!step.off;
      rows.push({
        kind: "step",
        key,
        n: rows.length + 1,
        depth,
        place: here,
        pointer: pointer(here),
        step,
        off: stepOff,
      });
      if (step.kind !== "route") return;
      const ways: [Way, Place, boolean][] = (step.ways ?? []).map((w: Way, j: number) => [
        w,
        [...here, "ways", j],
        false,
      ]);
      if (step.otherwise) ways.push([{ ...step.otherwise, name: "otherwise" }, [...here, "otherwise"], true]);
      for (const [way, at, otherwise] of ways) {
        rows.push({
          kind: "way",
          key: `${key}.${way.name}`,
          n: rows.length + 1,
          depth: depth + 1,
          place: at,
          pointer: pointer(at),
          route: step,
          routeKey: key,
          way,
          otherwise,
          off: stepOff,
        });
        block(way.steps, [...at, "steps"], `${key}.${way.name}/`, depth + 1, stepOff);
      }
    });
  };
  block(doc.steps ?? [], ["steps"], "", 0, false);
  return rows;
}

export type Cell = { text: string; state: string; reached: boolean; error?: string | null };

const never: Cell = { text: "", state: "", reached: false };

/** What a row did to a message, as the server computed it. */
export function cellOf(row: Row, r: Rehearsal | undefined): Cell {
  if (!r) return never;
  if (row.kind === "intake") {
    const ok = r.intake.outcome === "accepted";
    return { text: r.intake.outcome, state: ok ? "" : r.state, reached: true, error: ok ? null : r.reason };
  }
  if (row.kind === "way") {
    const taken = entryOf(r, row.routeKey)?.ways?.includes(row.way.name);
    return taken ? { text: "taken", state: "", reached: true } : never;
  }
  const e = entryOf(r, row.key);
  return e ? { text: e.outcome || "done", state: e.state, reached: true, error: e.error } : never;
}

export const entryOf = (r: Rehearsal | undefined, key: string): Entry | undefined =>
  r?.trace.find((e) => e.path === key);

/** The ids of all steps. */
export function ids(doc: FlowDocument): Set<string> {
  return new Set(rowsOf(doc).flatMap((r) => (r.kind === "step" ? [r.step.id] : [])));
}

export function freshID(doc: FlowDocument, base: string): string {
  const taken = ids(doc);
  if (!taken.has(base)) return base;
  for (let i = 2; ; i++) if (!taken.has(`${base}-${i}`)) return `${base}-${i}`;
}
