import type { Schemas } from "../api/client";
import { Words } from "../ui/difference";

type Delivery = Schemas["Rehearsal"]["deliveries"][number];

/** What a message handed over, and what it would: the same target beside the same. */
export function HandedOver(p: {
  name: string;
  was: Schemas["Rehearsal"];
  is: Schemas["Rehearsal"];
  differences: Schemas["Difference"][];
}) {
  const pairs = paired(p.was.deliveries, p.is.deliveries).filter(([a, b]) => textOf(a) !== textOf(b));
  const answer = (r: Schemas["Rehearsal"]) => (r.answer ? `${r.answer.status}\n${r.answer.body}` : "");
  const answers = answer(p.was) !== answer(p.is);
  return (
    <div className="grid max-h-[45%] shrink-0 grid-cols-2 overflow-auto border-t-2 border-deep" data-testid="handed">
      <h3 className="pane-head border-r border-line font-bold">{p.name} as it went</h3>
      <h3 className="pane-head font-bold">as it would be</h3>
      <p className="col-span-2 border-b border-line px-4 py-1.5">{p.differences.map((d) => d.text).join("; ")}</p>
      {pairs.map(([a, b], i) => (
        <Two key={i} was={textOf(a)} is={textOf(b)} other={a?.kind !== b?.kind || a?.target !== b?.target} />
      ))}
      {answers && <Two was={`the caller is answered ${answer(p.was)}`} is={`the caller is answered ${answer(p.is)}`} />}
      {pairs.length === 0 && !answers && (
        <p className="col-span-2 px-4 py-2 text-quiet">It hands over the same, and its caller hears the same.</p>
      )}
    </div>
  );
}

/** Both sides; what goes to others is not read word by word. */
function Two({ was, is, other }: { was: string; is: string; other?: boolean }) {
  return (
    <>
      <pre className="data min-w-0 border-r border-line px-4 py-2 break-all whitespace-pre-wrap">
        {was || <span className="text-quiet">nothing</span>}
      </pre>
      <pre className="data min-w-0 px-4 py-2 break-all whitespace-pre-wrap">
        {!is ? <span className="text-quiet">nothing</span> : was && !other ? <Words was={was} is={is} /> : is}
      </pre>
    </>
  );
}

/** Deliveries of both walks in pairs: what goes to the same stands together, in order. */
function paired(was: Delivery[], is: Delivery[]): [Delivery | undefined, Delivery | undefined][] {
  const left = [...was];
  const out: [Delivery | undefined, Delivery | undefined][] = is.map((b) => {
    const i = left.findIndex((a) => a.kind === b.kind && a.target === b.target);
    return [i < 0 ? undefined : left.splice(i, 1)[0], b];
  });
  for (const a of left) {
    const free = out.find(([x]) => x === undefined);
    if (free) free[0] = a;
    else out.push([a, undefined]);
  }
  return out;
}

function textOf(d: Delivery | undefined): string {
  if (!d) return "";
  const r = d.request;
  const line = [r.method, d.kind === "queue" || d.kind === "topic" ? `to the ${d.kind} ${d.target}` : d.target, r.url];
  const headers = Object.entries(r.headers)
    .filter(([k]) => k !== "Idempotency-Key")
    .map(([k, v]) => `${k}: ${v}`);
  const query = r.query
    ? [r.query.sql, ...(r.query.params ?? []).map((q) => `:${q.name} = ${JSON.stringify(q.value)}`)]
    : [];
  return [line.filter(Boolean).join(" "), ...headers, ...query, r.text ?? (r.base64 ? "bytes" : "")].join("\n");
}
