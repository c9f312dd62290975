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
  area?: string;
  note?: string;
  retain?: { days?: number | "forever"; bytes?: string | number };
  limits?: { "per-second"?: number; bytes?: string | number };
  weight?: number;
  intake: Intake;
  steps: Step[];
  "on-dead-letter"?: { note?: string; steps: Step[] };
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
      /** Steps that are no way by choice: of each part of a split, of an else, for a dead letter. */
      split?: boolean;
      fixed?: "else" | "dead";
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
      if (step.kind === "split") {
        const inside = [...here, "steps"];
        rows.push({
          kind: "way",
          key: `${key}[]`,
          n: rows.length + 1,
          depth: depth + 1,
          place: inside,
          pointer: `${pointer(inside)}/`,
          route: step,
          routeKey: key,
          way: { name: "each part", steps: step.steps },
          otherwise: true,
          split: true,
          off: stepOff,
        });
        block(step.steps, inside, `${key}/`, depth + 1, stepOff);
      }
      if (step.else?.steps) {
        const inside = [...here, "else", "steps"];
        rows.push({
          kind: "way",
          key: `${key}.else`,
          n: rows.length + 1,
          depth: depth + 1,
          place: inside,
          pointer: `${pointer(inside)}/`,
          route: step,
          routeKey: key,
          way: {
            name: step.else.then === "go on" ? "if it fails, and goes on" : "if it fails, and ends",
            steps: step.else.steps,
          },
          otherwise: true,
          fixed: "else",
          off: stepOff,
        });
        block(step.else.steps, inside, `${key}.else/`, depth + 1, stepOff);
      }
      if (step.kind !== "route" && step.kind !== "scatter") return;
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
  const dead = doc["on-dead-letter"];
  if (dead) {
    const inside = ["on-dead-letter", "steps"];
    rows.push({
      kind: "way",
      key: "on-dead-letter",
      n: rows.length + 1,
      depth: 0,
      place: inside,
      pointer: `${pointer(inside)}/`,
      route: { id: "on-dead-letter", kind: "dead" },
      routeKey: "",
      way: { name: "for each dead letter", steps: dead.steps },
      otherwise: true,
      fixed: "dead",
      off: false,
    });
    block(dead.steps, inside, "on-dead-letter/", 1, false);
  }
  return rows;
}

/** What the cells of a column need of a rehearsal. */
export type ToldStep = Pick<Entry, "path" | "outcome" | "state" | "error" | "caught" | "ways">;
export type Told = Pick<Rehearsal, "state" | "reason"> & { intake: { outcome: string }; trace: ToldStep[] };

export type Cell = { text: string; state: string; reached: boolean; error?: string | null };

const never: Cell = { text: "", state: "", reached: false };

/** What a row did to a message, as the server computed it. */
export function cellOf(row: Row, r: Told | undefined): Cell {
  if (!r) return never;
  if (row.kind === "intake") {
    const ok =
      r.intake.outcome === "accepted" || /^(part \d+|group) of |^steps for a dead letter$/.test(r.intake.outcome);
    return { text: r.intake.outcome, state: ok ? "" : r.state, reached: true, error: ok ? null : r.reason };
  }
  if (row.kind === "way" && row.split) {
    const n = partsIn(r, row.routeKey);
    return n ? { text: n === 1 ? "1 part" : `${n} parts`, state: "", reached: true } : never;
  }
  if (row.kind === "way" && row.fixed === "dead") {
    const run = r.trace.some((e) => e.path.startsWith("on-dead-letter/"));
    return run ? { text: "run", state: "", reached: true } : never;
  }
  if (row.kind === "way" && row.fixed === "else") {
    const caught = entriesOf(r, row.routeKey).some((e) => e.caught);
    return caught ? { text: "taken", state: "", reached: true } : never;
  }
  if (row.kind === "way") {
    const taken = entriesOf(r, row.routeKey).some((e) => e.ways?.includes(row.way.name));
    return taken ? { text: "taken", state: "", reached: true } : never;
  }
  const all = entriesOf(r, row.key);
  const [e] = all;
  if (!e) return never;
  if (all.length === 1) return { text: e.outcome || "done", state: e.state, reached: true, error: e.error };
  // Several parts: the most troubled state, and how often each outcome was.
  const worst = all.reduce((a, b) => (trouble.indexOf(b.state) > trouble.indexOf(a.state) ? b : a));
  const counts = new Map<string, number>();
  for (const x of all) counts.set(x.outcome || "done", (counts.get(x.outcome || "done") ?? 0) + 1);
  const text = [...counts]
    .map(([outcome, n]) => (counts.size === all.length ? outcome : `${n} × ${outcome}`))
    .join(", ");
  return { text, state: worst.state, reached: true, error: worst.error };
}

const trouble = ["", "delivered", "turned away", "waiting", "dead letter"];

/** The key of the row that a path of a trace belongs to: parts share their rows. */
export const rowKey = (path: string): string => path.replace(/\[\d+\]/g, "");

type Traced<E> = { trace: E[] };
const byRow = new WeakMap<object, Map<string, ToldStep[]>>();

/** What a step did, once for each part that came to it. */
export function entriesOf<E extends ToldStep>(r: Traced<E> | undefined, key: string): E[] {
  if (!r) return [];
  let all = byRow.get(r);
  if (!all) {
    all = new Map();
    for (const e of r.trace) {
      const k = rowKey(e.path);
      const list = all.get(k);
      if (list) list.push(e);
      else all.set(k, [e]);
    }
    byRow.set(r, all);
  }
  return (all.get(key) ?? []) as E[];
}

/** How many parts of a split went through its steps here. */
function partsIn(r: Told, split: string): number {
  const seen = new Set<string>();
  for (const e of r.trace) {
    for (const m of e.path.matchAll(/\[\d+\]/g)) {
      const whole = e.path.slice(0, m.index + m[0].length);
      if (rowKey(whole) === split) seen.add(whole);
    }
  }
  return seen.size;
}

/** What a step did to the nth of the parts that came to it. */
export const entryOf = (r: Rehearsal | undefined, key: string, nth = 0): Entry | undefined => {
  const all = entriesOf(r, key);
  return all[Math.min(nth, all.length - 1)];
};

/** The ids of all steps. */
export function ids(doc: FlowDocument): Set<string> {
  return new Set(rowsOf(doc).flatMap((r) => (r.kind === "step" ? [r.step.id] : [])));
}

export function freshID(doc: FlowDocument, base: string): string {
  const taken = ids(doc);
  if (!taken.has(base)) return base;
  for (let i = 2; ; i++) if (!taken.has(`${base}-${i}`)) return `${base}-${i}`;
}
