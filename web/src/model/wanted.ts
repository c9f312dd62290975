import type { Step } from "./model";

/** What there is that a step can name. */
export type Given = {
  connections: { name: string; kind: string }[];
  queues: string[];
  topics: string[];
  tables: string[];
  flows: string[];
};

type Wanted = Partial<Step> & { kind: string };

const units: Record<string, string> = { s: "s", m: "m", h: "h", d: "d" };

/** A span as a flow writes it, of words: 5 minutes, 2h. */
function spanOf(text: string): string | undefined {
  const m = /(\d+)\s*(s|sec|second|m|min|minute|h|hour|d|day)s?\b/i.exec(text);
  const unit = units[(m?.[2] ?? "")[0]?.toLowerCase() ?? ""];
  if (!m || !unit) return undefined;
  return unit === "d" ? `${Number(m[1]) * 24}h` : `${m[1]}${unit}`;
}

/** A path of the message that is named, or body and what stands behind a word. */
const pathIn = (text: string) => /\b(body|vars|replies|headers|params)[.[][\w.[\]"?-]*/.exec(text)?.[0];

/**
 * Steps that do what a person has written: "send to shelf-printer", "wait 5 minutes", "only if body.n > 1", "look up
 * branches". What is named must be there; the likeliest comes first.
 */
export function wantedOf(text: string, given: Given): Wanted[] {
  const t = text.trim();
  if (t.length < 3) return [];
  const low = t.toLowerCase();
  const has = (name: string) =>
    name !== "" && new RegExp(`(^|[^\\w-])${name.replace(/[.]/g, "\\.")}($|[^\\w-])`, "i").test(t);
  const says = (...words: string[]) => words.some((w) => new RegExp(`\\b${w}`, "i").test(low));
  const out: Wanted[] = [];
  const path = pathIn(t);
  const behind = (re: RegExp) => re.exec(t)?.[1]?.trim();
  for (const c of given.connections) {
    if (!has(c.name) || c.kind === "caller") continue;
    const ask = says("ask", "fetch", "get\\b", "query", "question");
    const get = /\b(GET|POST|PUT|PATCH|DELETE)\b/.exec(t)?.[1];
    const at = /(\s|^)(\/[\w/${}.-]*)/.exec(t)?.[2];
    const more = { ...(get ? { method: get } : {}), ...(at ? { path: at } : {}) };
    if (ask) out.push({ kind: "ask", of: c.name, path: "/", ...more });
    out.push({ kind: "deliver", to: c.name, ...more });
  }
  for (const q of given.queues) if (has(q)) out.push({ kind: "deliver", to: { queue: q } });
  for (const q of given.topics) if (has(q)) out.push({ kind: "deliver", to: { topic: q } });
  for (const name of given.tables) if (has(name)) out.push({ kind: "lookup", in: name, key: path ?? "body.key" });
  for (const name of given.flows) if (has(name)) out.push({ kind: "subflow", flow: name });
  const queue = behind(/\b(?:queue|into the queue|to the queue)\s+([\w-]+)/i);
  if (queue && !given.queues.includes(queue)) out.push({ kind: "deliver", to: { queue } });
  const span = spanOf(t);
  if (says("wait", "hold", "delay", "pause") && span) out.push({ kind: "hold", for: span });
  const rate = /(\d+)\s*(?:messages?\s*)?(?:a|per|\/|each)\s*(second|minute|hour)/i.exec(t);
  if (rate) out.push({ kind: "pace", most: Number(rate[1]), per: `1${rate[2]?.[0]?.toLowerCase()}` });
  const only = behind(/^(?:only|keep|go on|filter)(?:\s+(?:if|when|those|where|on))*\s+(.+)$/i);
  if (only && path) out.push({ kind: "filter", keep: only });
  const drop = behind(/^(?:drop|turn away|skip|ignore)(?:\s+(?:if|when|those|where))*\s+(.+)$/i);
  if (drop && path) out.push({ kind: "filter", keep: `!(${drop})` });
  if (says("split", "each", "every item") && path) out.push({ kind: "split", each: path, steps: [] });
  if (says("once", "duplicate", "repeat", "twice"))
    out.push({ kind: "once", key: path ?? "body.id", ...(span ? { for: span } : {}) });
  if (says("collect", "gather", "batch", "group", "aggregate")) {
    const count = /\b(\d+)\b/.exec(t)?.[1];
    out.push({
      kind: "aggregate",
      key: path ?? "body.key",
      close: { ...(count ? { count: Number(count) } : {}), age: span ?? "10m" },
    });
  }
  const format = /\b(?:to|as|into)\s+(json|xml|csv|form|text)\b/i.exec(t)?.[1]?.toLowerCase();
  if (format) out.push({ kind: "convert", to: format });
  const status = /\b(?:answer|reply|respond)\w*\b.*\b([2-5]\d\d)\b/i.exec(t)?.[1];
  if (status) out.push({ kind: "answer", status: Number(status) });
  if (says("route", "branch on", "switch on", "depending") && path)
    out.push({
      kind: "route",
      take: "first",
      ways: [{ name: "one", when: `${path} == ""`, steps: [] }],
      otherwise: { steps: [] },
    });
  const note = behind(/^(?:note|log|write down)\s+(.+)$/i);
  if (note) out.push({ kind: "note", text: note });
  return out.slice(0, 6);
}
