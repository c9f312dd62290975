import { call, enc } from "../api/client";
import { at, update } from "../model/edit";
import { type FlowDocument, freshID, type Place, rowsOf, type Step, type Way } from "../model/model";
import { outermost, removeSteps } from "../model/restructure";

/** Whether steps stand one behind the other in the same list. */
function inOneRun(places: Place[]): boolean {
  const [first] = places;
  return places.every(
    (p, i) => String(p.slice(0, -1)) === String(first?.slice(0, -1)) && p.at(-1) === (first?.at(-1) as number) + i,
  );
}

/** Whether something is done with the message behind a place. */
function goesOn(doc: FlowDocument, last: Place): boolean {
  const rows = rowsOf(doc);
  const here = rows.findIndex((r) => String(r.place) === String(last));
  const depth = rows[here]?.depth ?? 0;
  const next = rows.slice(here + 1).find((r) => r.kind === "step" && r.depth <= depth);
  return next !== undefined && next.place[0] === last[0];
}

/**
 * Makes a flow of some steps that stand one behind the other, and puts a step in their place that hands the message
 * to it. Where steps follow, its answer is waited for and goes on as the message.
 */
export async function extract(
  doc: FlowDocument,
  places: Place[],
): Promise<{ doc: FlowDocument; flow: string; id: string }> {
  const run = outermost(places);
  const [first] = run;
  if (!first || !inOneRun(run)) throw new Error("Steps that become a flow stand one behind the other, in one way");
  const steps = run.map((p) => at(doc, p) as Step);
  const own = names(steps);
  for (const use of usesOf(steps))
    if (!own.has(use)) throw new Error(`They use ${use}, which would not be in their flow`);
  const rest = removeSteps(doc, run);
  const left = names([...(rest.steps ?? []), ...(rest["on-dead-letter"]?.steps ?? [])]);
  for (const use of usesOf(rest))
    if (own.has(use) && !left.has(use))
      throw new Error(`Steps behind them use ${use}, which would be in their flow alone`);
  const flow = await freeName(`${doc.name}-${steps[0]?.id ?? "part"}`);
  const title = `${doc.title || doc.name}: ${steps[0]?.title || steps[0]?.id}`;
  await call(`/api/v1/flows/${enc(flow)}`, {
    method: "PUT",
    headers: { "If-None-Match": "*" },
    body: { readyferry: "flow/1", name: flow, title, intake: { kind: "subflow" }, steps },
  });
  const id = freshID(doc, "hand");
  const follows = goesOn(doc, run.at(-1) as Place);
  const instead: Step[] = [{ id, kind: "subflow", flow, ...(follows ? { wait: true } : {}) }];
  if (follows)
    instead.push({ id: freshID(doc, `${id}-back`), kind: "map", fields: [{ to: "", from: `replies.${id}.body` }] });
  const from = first.at(-1) as number;
  const next = update(doc, first.slice(0, -1), (l: Step[]) => [
    ...l.slice(0, from),
    ...instead,
    ...l.slice(from + run.length),
  ]);
  return { doc: next, flow, id };
}

/** What expressions use of steps and vars: replies.lend, bodies.clean, vars.van. */
function usesOf(v: unknown): Set<string> {
  const found = JSON.stringify(v).matchAll(/\b(replies|bodies|vars)(?:\.\??|\[\??\\?["'])([\w-]+)/g);
  return new Set([...found].map((m) => `${m[1]}.${m[2]}`).filter((use) => use !== "bodies.intake"));
}

/** What steps make that expressions can use. */
function names(steps: Step[]): Set<string> {
  const out = new Set<string>();
  for (const id of idsIn(steps)) out.add(`replies.${id}`).add(`bodies.${id}`);
  const walk = (v: unknown): void => {
    if (!v || typeof v !== "object") return;
    const { into, vars } = v as Record<string, unknown>;
    if (typeof into === "string") out.add(`vars.${into}`);
    if (vars && typeof vars === "object") for (const name of Object.keys(vars)) out.add(`vars.${name}`);
    Object.values(v).forEach(walk);
  };
  walk(steps);
  return out;
}

function idsIn(steps: Step[]): Set<string> {
  const out = new Set<string>();
  const walk = (s: Step) => {
    out.add(s.id);
    for (const inner of [s.steps, s.else?.steps, s.otherwise?.steps, ...((s.ways ?? []) as Way[]).map((w) => w.steps)])
      for (const x of (inner ?? []) as Step[]) walk(x);
  };
  steps.forEach(walk);
  return out;
}

async function freeName(base: string): Promise<string> {
  const all = (await call<{ name: string }[]>("/api/v1/flows")).value.map((f) => f.name);
  let name = base.slice(0, 50);
  for (let n = 2; all.includes(name); n++) name = `${base.slice(0, 46)}-${n}`;
  return name;
}

/** Puts the steps of a flow in the place of the step that hands the message to it. */
export async function inline(doc: FlowDocument, place: Place): Promise<{ doc: FlowDocument; id: string }> {
  const step = at(doc, place) as Step;
  const { value } = await call<{ document: FlowDocument | null }>(`/api/v1/flows/${enc(String(step.flow))}`);
  if (!value.document) throw new Error(`The flow ${step.flow} cannot be read`);
  if (value.document.intake.kind !== "subflow")
    throw new Error(`${step.flow} takes messages from elsewhere as well, so its steps stay there`);
  let taken = doc;
  const renamed = new Map<string, string>();
  for (const id of idsIn(value.document.steps)) {
    const to = id === step.id ? id : freshID(taken, id);
    if (to !== id) renamed.set(id, to);
    taken = { ...taken, steps: [...taken.steps, { id: to, kind: "note" }] };
  }
  const steps = JSON.parse(JSON.stringify(value.document.steps), (key, v) => {
    if (typeof v !== "string") return v;
    if (key === "id") return renamed.get(v) ?? v;
    return [...renamed].reduce(
      (t, [old, to]) => t.replace(new RegExp(`\\b(replies|bodies)(\\.\\??)${old}(?![\\w-])`, "g"), `$1$2${to}`),
      v,
    );
  }) as Step[];
  const list = place.slice(0, -1);
  const from = place.at(-1) as number;
  const all = at(doc, list) as Step[];
  // The step that took its answer as the message has nothing to take any more.
  const back = all[from + 1];
  const reads = back?.kind === "map" && back.fields?.length === 1 && back.fields[0].from === `replies.${step.id}.body`;
  const next = update(doc, list, (l: Step[]) => [
    ...l.slice(0, from),
    ...steps,
    ...l.slice(from + (step.wait && reads ? 2 : 1)),
  ]);
  return { doc: next, id: steps[0]?.id ?? "" };
}
