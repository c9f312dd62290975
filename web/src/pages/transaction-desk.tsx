import { useState } from "react";
import { Link } from "react-router";
import { toast } from "sonner";
import type { Delivery, TransactionWhole } from "../api/client";
import { useConnections, type useInspection, useMessages } from "../api/queries";
import { entryOf, type Row, rowKey } from "../model/model";
import { cameFrom, wentTo } from "../model/provenance";
import { written } from "../model/requests";
import { CameWith, LookedUp, Replied, Seen, Sent } from "../sheet/shown";
import { Document } from "../ui/document";
import { Mark } from "../ui/marks";
import { Setting, says } from "../ui/parts";
import { clock, span, Time } from "../ui/time";
import { upcoming } from "./transactions";

/** What a step of a transaction did: before, after, and what the target said. */
export function TransactionDesk({
  row,
  tx,
  inspection,
  now,
}: {
  row: Row;
  tx: TransactionWhole;
  inspection: ReturnType<typeof useInspection>["data"];
  now: number;
}) {
  const entry = entryOf(inspection, row.kind === "way" ? row.routeKey : row.key);
  const d = row.kind === "step" ? tx.deliveries.find((x) => rowKey(x.path) === row.key) : undefined;
  const last = d?.tries.findLast((t) => t.outcome !== "late" && t.outcome !== "unknown");
  const asked = row.kind === "step" && !d && inspection?.deliveries.find((x) => rowKey(x.path) === row.key);
  // Where a value of a map came from and went to lights up beside it.
  const [overBefore, setOverBefore] = useState<string | null>(null);
  const [overAfter, setOverAfter] = useState<string | null>(null);
  const messages = useMessages(row.kind === "intake" ? tx.id : "");
  const came = messages.data?.at(-1);
  return (
    <section aria-label="Desk" className="grid h-[42%] shrink-0 grid-cols-3 border-t-2 border-deep">
      <div className="flex min-h-0 min-w-0 flex-col border-r border-line bg-sheet">
        <h2 className="pane-head bg-paper">
          {row.kind === "intake" ? "As it came in" : d || asked ? "What was sent" : `Before step ${row.n}`}
        </h2>
        <div className="min-h-0 flex-1 overflow-auto" data-testid="before">
          {row.kind === "intake" ? (
            <>
              {came && <CameWith {...came} />}
              <Document body={inspection?.intake.body} />
            </>
          ) : d || asked ? (
            <Sent rehearsal={inspection} path={(d || asked || { path: "" }).path} />
          ) : (
            <>
              {entry?.names?.map((n) => (
                <Seen key={n.name} name={n.name} json={n.json} open={n.name === "part"} />
              ))}
              <Document body={entry?.before} lit={cameFrom(entry, overAfter)} onHover={setOverBefore} />
            </>
          )}
        </div>
      </div>
      <div className="flex min-h-0 min-w-0 flex-col border-r border-line bg-sheet">
        {d ? (
          <>
            <h2 className="pane-head bg-paper">
              Last answer{" "}
              <span className="font-normal text-quiet">
                {last ? `try ${last.n}, ${clock(last.at)}${answered(d, last)}` : "not tried yet"}
              </span>
            </h2>
            <div className="min-h-0 flex-1 overflow-auto" data-testid="last-answer">
              {last?.detail &&
                (last.outcome === "delivered" ? (
                  <p className="data px-3 pt-2 font-bold">{last.detail}</p>
                ) : (
                  <p className="m-3 border-l-4 border-dead bg-loss px-3 py-2">{last.detail}</p>
                ))}
              <dl className="data grid grid-cols-[auto_1fr] gap-x-3 px-3 py-2">
                {last?.headers.map((h) => (
                  <div key={h.name} className="contents">
                    <dt className="text-quiet">{h.name}</dt>
                    <dd className="break-all">{h.value}</dd>
                  </div>
                ))}
              </dl>
              {last?.body && <Document body={{ format: "json", text: last.body }} />}
            </div>
          </>
        ) : (
          <>
            <h2 className="pane-head bg-paper">
              {row.kind === "intake" ? "What the caller got" : asked && entry?.reply ? "Reply" : `After step ${row.n}`}
            </h2>
            <div className="min-h-0 flex-1 overflow-auto" data-testid="after">
              {row.kind === "intake" ? (
                inspection?.answer ? (
                  <>
                    <p className="data px-3 pt-2 font-bold">{inspection.answer.status}</p>
                    <Document body={{ format: "json", text: inspection.answer.body }} />
                  </>
                ) : (
                  <p className="p-3 text-quiet">Nobody waited for an answer.</p>
                )
              ) : entry?.error ? (
                <p className="m-3 border-l-4 border-dead bg-loss px-3 py-2">{entry.error}</p>
              ) : asked && entry?.reply ? (
                <Replied json={entry.reply} />
              ) : (
                <>
                  <LookedUp looked={entry?.looked} />
                  <Document body={entry?.after} lit={wentTo(entry, overBefore)} onHover={setOverAfter} />
                </>
              )}
            </div>
          </>
        )}
      </div>
      <div className="flex min-h-0 min-w-0 flex-col">
        {d ? <Tries d={d} now={now} /> : <Said row={row} tx={tx} inspection={inspection} />}
      </div>
    </section>
  );
}

/** What a try was answered, in a few words. */
function answered(d: Delivery, last: Delivery["tries"][number]): string {
  if (!last.status) return "";
  if (!d.request.query) return `, HTTP ${last.status}`;
  const affected = last.headers.find((h) => h.name.toLowerCase() === "affected-rows")?.value;
  if (affected === undefined) return "";
  return `, ${affected} ${affected === "1" ? "row" : "rows"} affected`;
}

function Said({
  row,
  tx,
  inspection,
}: {
  row: Row;
  tx: TransactionWhole;
  inspection: ReturnType<typeof useInspection>["data"];
}) {
  const entry = entryOf(inspection, row.key);
  return (
    <>
      <h2 className="pane-head">What happened</h2>
      <div className="overflow-auto p-3">
        {entry && <Setting label="This step">{entry.outcome}</Setting>}
        {tx.reason && <Setting label="The transaction">{tx.reason}</Setting>}
        {tx.groups
          .filter((g) => rowKey(g.path) === row.key)
          .map((g) => (
            <Setting key={g.id} label={g.open ? "It waits in" : "It went on in"}>
              <Link
                className="font-bold hover:underline"
                to={g.open ? `/queues?group=${g.id}` : `/transactions/${g.id}`}
              >
                the group {g.key}
              </Link>
            </Setting>
          ))}
        {tx.called
          .filter((c) => rowKey(c.path) === row.key)
          .map((c) => (
            <Setting key={c.id} label={`The flow ${c.flow}, ${c.state}`}>
              <Link className="font-bold hover:underline" to={`/transactions/${c.id}`}>
                its transaction
              </Link>
            </Setting>
          ))}
        {inspection?.notes.length ? (
          <Setting label="Notes">
            {inspection.notes.map((n) => (
              <p key={n.text}>{n.text}</p>
            ))}
          </Setting>
        ) : null}
        {!entry && row.kind === "step" && <p className="text-quiet">This step was not reached.</p>}
      </div>
    </>
  );
}

/** The request of a delivery as a command; what signs it in is never in it. */
function CopyAsCurl({ d }: { d: Delivery }) {
  const connections = useConnections();
  const address = (connections.data?.find((c) => c.name === d.target)?.document as { address?: string } | undefined)
    ?.address;
  if (!d.request.method || !address?.startsWith("http")) return null;
  const text = written.curl?.({
    method: d.request.method,
    url: address.replace(/\/$/, "") + (d.request.url ?? ""),
    headers: { ...(d.request.headers ?? {}), "Idempotency-Key": d.id },
    body: d.request.text ?? "",
  });
  return (
    <button
      type="button"
      className="btn-bare"
      onClick={() =>
        navigator.clipboard.writeText(text ?? "").then(
          () => toast("The request is on the clipboard; what signs it in is not in it"),
          (e) => toast.error(says(e)),
        )
      }
    >
      copy as curl
    </button>
  );
}

/** The whole retry schedule: what was tried, and what is still to come. */
function Tries({ d, now }: { d: Delivery; now: number }) {
  const p = d.plan;
  return (
    <>
      <h2 className="pane-head">
        Tries{" "}
        <span className="truncate font-normal text-quiet">
          {p.growth} from {span(p.first)}, spread {p.spread}, cap {span(p.cap)}, {p.tries} tries within {span(p.within)}
        </span>
        <CopyAsCurl d={d} />
      </h2>
      <ol className="min-h-0 flex-1 overflow-auto" data-testid="tries">
        {d.tries.map((t, i) => (
          <li key={t.n}>
            {t.round !== (d.tries[i - 1]?.round ?? 0) && (
              <p className="border-b border-line px-3 py-0.5 text-[12.5px] text-quiet">sent again by a person</p>
            )}
            <details className="border-b border-line">
              <summary className="flex cursor-pointer items-center gap-3 px-3 py-1.5">
                <Mark state={t.outcome === "delivered" ? "delivered" : "turned away"} />
                <span className="w-5">{t.n}</span>
                <span className="min-w-0 flex-1 truncate">
                  <Time at={t.at} /> {t.status ? t.status : t.detail}
                </span>
                <span className="text-quiet">{span(t.took)}</span>
              </summary>
              <div className="data px-3 pb-2 whitespace-pre-wrap text-quiet">
                {t.headers.map((h) => `${h.name}: ${h.value}\n`).join("")}
                <span className="text-ink">{t.body || "it answered with no body"}</span>
              </div>
            </details>
          </li>
        ))}
        {d.upcoming.map((u, i) => (
          <li key={u.n} className="flex items-center gap-3 border-b border-line px-3 py-1.5">
            <Mark state={i === 0 ? "waiting" : ""} />
            <span className="w-5">{d.tries.length + i + 1}</span>
            <span className="min-w-0 flex-1 truncate">
              {i === 0 ? (
                <>
                  <b>
                    <Time at={u.planned} />
                  </b>{" "}
                  {u.why}
                </>
              ) : (
                <>
                  at <Time at={u.planned} />, if all before it fail
                </>
              )}
            </span>
            <span className="text-quiet">{upcoming(u.planned, now)}</span>
          </li>
        ))}
        {d.upcoming.length > 0 && <li className="px-3 py-1.5 text-quiet">then dead letter</li>}
        {d.behind && <li className="px-3 py-1.5 text-quiet">waits for an earlier delivery of the same order value</li>}
        {d.state === "dead letter" && (
          <li className="px-3 py-1.5 text-dead">given up; a dead letter waits for a decision</li>
        )}
        {d.state === "withdrawn" && <li className="px-3 py-1.5 text-quiet">no longer wanted</li>}
      </ol>
    </>
  );
}
