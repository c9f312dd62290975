import type { Entry, Rehearsal } from "../api/client";
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

/** What a delivery hands over. */
export function Sent({ rehearsal, path }: { rehearsal: Rehearsal | undefined; path: string }) {
  const d = rehearsal?.deliveries.find((x) => x.path === path);
  if (!d) return <p className="p-3 text-quiet">Nothing is sent for this message.</p>;
  return (
    <div>
      <p className="data px-3 pt-2">
        <b>
          {d.kind === "queue" || d.kind === "topic"
            ? `${d.kind} ${d.target}`
            : `${d.request.method} ${d.target} ${d.request.url ?? ""}`}
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
        {Object.entries(d.request.headers).map(([k, v]) => (
          <div key={k} className="contents">
            <dt>{k}</dt>
            <dd className="break-all">{v}</dd>
          </div>
        ))}
      </dl>
      <Document body={d.request} />
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
            {l.row ? JSON.stringify(l.row) : "no row"}
            {l.default && <span className="text-quiet"> stands in for it</span>}
          </p>
        </li>
      ))}
    </ul>
  );
}
