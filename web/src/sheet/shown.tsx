import type { Entry, Rehearsal, Schemas } from "../api/client";
import { Document } from "../ui/document";
import { span } from "../ui/time";

/** What expressions see by another name than body. */
export function Seen(p: { name: string; json: string; open?: boolean; onPick?: (path: string) => void }) {
  return (
    <details open={p.open} className="border-b border-line" data-name={p.name}>
      <summary className="data cursor-pointer px-3 py-1 font-bold">{p.name}</summary>
      <Document body={{ format: "json", text: p.json }} root={p.name} onPick={p.onPick} />
    </details>
  );
}

type Named = { name: string; value: string }[];

/** What came with a message besides its body: headers, and of a webhook the parameters of its path and query. */
export function CameWith(p: { headers: Named; params?: Named; query?: Named }) {
  const lists: [string, Named][] = [
    ["headers", p.headers],
    ["parameters of the path", p.params ?? []],
    ["query", p.query ?? []],
  ];
  return (
    <div data-testid="came-with">
      {lists
        .filter(([, list]) => list.length > 0)
        .map(([title, list]) => (
          <dl key={title} aria-label={title} className="data border-b border-line px-3 py-1.5">
            <div className="head">{title}</div>
            {list.map((h, i) => (
              <div key={i} className="flex gap-3">
                <dt className="shrink-0 text-quiet">{h.name}</dt>
                <dd className="min-w-0 break-all">{h.value}</dd>
              </div>
            ))}
          </dl>
        ))}
    </div>
  );
}

/** A statement for a database, with the values that are bound to its names. */
function Statement({ query }: { query: NonNullable<Schemas["ShownRequest"]["query"]> }) {
  return (
    <div data-testid="statement">
      <pre className="data px-3 py-2 whitespace-pre-wrap">{query.sql}</pre>
      <dl aria-label="bound values" className="data border-t border-line px-3 py-1.5">
        <div className="head">bound values</div>
        {(query.params ?? []).map((v) => (
          <div key={v.name} className="flex gap-3">
            <dt className="shrink-0 text-quiet">:{v.name}</dt>
            <dd className="min-w-0 break-all">{JSON.stringify(v.value)}</dd>
          </div>
        ))}
        {!query.params?.length && <div className="text-quiet">none</div>}
      </dl>
    </div>
  );
}

const handedTo: Record<string, string> = { queue: "queue", topic: "topic", reply: "asked by queue", flow: "flow" };

/** What a delivery hands over. */
export function Sent({ rehearsal, path }: { rehearsal: Rehearsal | undefined; path: string }) {
  const d = rehearsal?.deliveries.find((x) => x.path === path);
  if (!d) return <p className="p-3 text-quiet">Nothing is sent for this message.</p>;
  if (d.request.query)
    return (
      <div>
        <p className="data px-3 pt-2">
          <b>database {d.target}</b>
        </p>
        <Statement query={d.request.query} />
      </div>
    );
  return (
    <div>
      <p className="data px-3 pt-2">
        <b>
          {handedTo[d.kind]
            ? `${handedTo[d.kind]} ${d.target}`
            : `${d.request.method ?? d.kind} ${d.target} ${d.request.url ?? ""}`}
        </b>
      </p>
      <dl className="data grid grid-cols-[auto_1fr] gap-x-3 px-3 py-1 text-quiet">
        {d.kind === "queue" && (
          <div className="contents">
            <dt>priority</dt>
            <dd>
              {d.request.priority}
              {d.request.expires ? `, expires after ${span(d.request.expires)}` : ""}
            </dd>
          </div>
        )}
        {Object.entries(d.request.settings ?? {})
          .flatMap(([k, v]): [string, unknown][] =>
            typeof v === "object" && v !== null && !Array.isArray(v)
              ? Object.entries(v).map(([name, one]) => [`${k} ${name}`, one])
              : [[k, v]],
          )
          .map(([k, v]) => (
            <div key={k} className="contents">
              <dt>{k}</dt>
              <dd className="whitespace-pre-wrap break-all">{v === null ? "null" : String(v)}</dd>
            </div>
          ))}
        {Object.entries(d.request.headers).map(([k, v]) => (
          <div key={k} className="contents">
            <dt>{k}</dt>
            <dd className="break-all">{v}</dd>
          </div>
        ))}
      </dl>
      {d.kind !== "sql" && <Document body={d.request} />}
    </div>
  );
}

/** What a step was answered, as later expressions see it. */
export function Replied({ json }: { json: string }) {
  const reply = JSON.parse(json) as { status?: unknown; headers?: Record<string, unknown>; body?: unknown };
  const headers = Object.entries(reply.headers ?? {}).map(([name, value]) => ({ name, value: String(value) }));
  return (
    <div data-testid="reply">
      {typeof reply.status === "number" && reply.status > 0 && (
        <p className="data px-3 pt-2 font-bold">{reply.status}</p>
      )}
      <CameWith headers={headers} />
      <Document body={{ format: "json", text: JSON.stringify(reply.body ?? null) }} />
    </div>
  );
}

/** What the caller gets. */
export function Answer({ rehearsal }: { rehearsal: Rehearsal | undefined }) {
  if (!rehearsal) return null;
  if (!rehearsal.answer) return <p className="p-3 text-quiet">Nobody waits for an answer.</p>;
  return (
    <div>
      <p className="data px-3 pt-2">
        <b>{rehearsal.answer.status}</b> {rehearsal.answer.headers["Content-Type"]}
      </p>
      <Document body={{ format: "json", text: rehearsal.answer.body }} />
    </div>
  );
}

/** The rows of tables that a step found or wrote, as they were then. */
export function LookedUp({ looked }: { looked: Entry["looked"] }) {
  if (!looked?.length) return null;
  return (
    <ul data-testid="looked" className="border-b border-line">
      {looked.map((l, i) => (
        <li key={i} className="px-3 py-1.5">
          <b>{l.table}</b> <span className="data">{l.key}</span>
          {l.version ? <span className="text-quiet"> version {l.version}</span> : null}
          <p className={`data break-all ${l.row ? "" : "text-quiet"}`}>
            {l.row ? JSON.stringify(l.row) : (l.problem ?? "no row")}
            {l.default && <span className="text-quiet"> stands in for it</span>}
          </p>
        </li>
      ))}
    </ul>
  );
}
