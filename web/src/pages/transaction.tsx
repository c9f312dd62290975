import { useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { toast } from "sonner";
import { call, type Delivery, enc, get, type StoredMessage, type TransactionWhole } from "../api/client";
import { useInspection, useTransaction, useVersion } from "../api/queries";
import { Seen, Sent } from "../sheet/desk";
import { IntakeSentence } from "../sheet/intake";
import { entryOf, type FlowDocument, type Row, rowKey, rowsOf } from "../sheet/model";
import { type Focus, Sheet } from "../sheet/sheet";
import { Document } from "../ui/document";
import { Mark } from "../ui/marks";
import { PageHead, Setting, says, Trouble } from "../ui/parts";
import { clock, span, Time, useNow } from "../ui/time";
import { Progress, useParts } from "./parts";
import { upcoming } from "./transactions";

export default function TransactionPage() {
  const { id = "" } = useParams();
  const t = useTransaction(id);
  const inspection = useInspection(id);
  const version = useVersion(t.data?.flow ?? "", t.data?.version ?? 0);
  const doc = version.data?.document as FlowDocument | undefined;
  const rows = useMemo(() => (doc ? rowsOf(doc) : []), [doc]);
  const [focus, setFocus] = useState<Focus | null>(null);
  const [partState, setPartState] = useState("");
  const parts = useParts(id, t.data?.partCount ?? 0, partState);
  // At first the column of the part that the whole has its state from.
  const troubled = parts.places.findIndex((p) => t.data?.place.startsWith(p)) + 1;
  const column = focus?.column ?? troubled;
  const chosen = parts.columns[column - 1];
  const part = useTransaction(chosen?.key ?? "");
  const shown = chosen ? part.data : t.data;
  const shownInspection = chosen ? chosen.rehearsal : inspection.data;
  const now = useNow(500);
  const go = useNavigate();
  if (t.error) return <Trouble error={t.error} />;
  if (!t.data) return <p className="p-6 text-quiet">Loading…</p>;
  const tx = t.data;
  // At first the row where the transaction is, else the last delivery.
  const telling = tx.place || tx.deliveries.at(-1)?.path || "";
  const at = focus ?? {
    row: Math.max(
      0,
      rows.findIndex((r) => r.key === rowKey(telling)),
    ),
    column,
  };
  const row = rows[Math.min(at.row, rows.length - 1)];
  const letter = (shown ?? tx).deadLetters.find((l) => l.state === "open");
  const waiting = (shown ?? tx).deliveries.find((d) => d.state === "waiting" && !d.behind);
  const tryNow = async () => {
    if (!waiting) return;
    try {
      await call(`/api/v1/deliveries/${waiting.id}/try`, { method: "POST" });
    } catch (e) {
      toast.error(says(e));
    }
  };
  const keep = async () => {
    try {
      const messages = await get<StoredMessage[]>(`/api/v1/transactions/${id}/messages`);
      const m = messages.at(-1);
      if (!m) return;
      const name = tx.reference || tx.id.slice(0, 13);
      const map = (l: { name: string; value: string }[]) =>
        Object.fromEntries(l.map((h) => [h.name.toLowerCase(), h.value]));
      await call(`/api/v1/flows/${enc(tx.flow)}/samples/${enc(name)}`, {
        method: "PUT",
        body: {
          name,
          body: m.body.text ?? "",
          base64: m.body.base64,
          headers: map(m.headers),
          params: Object.fromEntries(m.params.map((h) => [h.name, h.value])),
          query: Object.fromEntries(m.query.map((h) => [h.name, h.value])),
          at: tx.receivedAt,
        },
      });
      toast.success(`${name} is a sample of ${tx.flow} now`);
    } catch (e) {
      toast.error(says(e));
    }
  };
  const facts: [string, React.ReactNode][] = [
    [
      "Flow",
      <Link
        key="f"
        className="font-bold hover:underline"
        to={`/flows/${tx.flow}`}
      >{`${doc?.title ?? tx.flow}, version ${tx.version}`}</Link>,
    ],
    ["Received", <Time key="r" at={tx.receivedAt} withDate />],
    [
      "From",
      tx.group ? (
        <Link key="g" className="font-bold hover:underline" to={`/queues?group=${tx.id}`}>
          {tx.source}
        </Link>
      ) : (
        tx.source
      ),
    ],
    ["Size", `${tx.size} bytes`],
    ...(tx.parent
      ? [
          [
            "Part of",
            <Link key="p" className="font-bold hover:underline" to={`/transactions/${tx.parent}`}>
              the whole message
            </Link>,
          ] as [string, React.ReactNode],
        ]
      : []),
    ...tx.groups.map((g): [string, React.ReactNode] => [
      g.open ? `Member ${g.n} of the open group` : `Member ${g.n} of the group`,
      <Link
        key={g.id}
        className="font-bold hover:underline"
        to={g.open ? `/queues?group=${g.id}` : `/transactions/${g.id}`}
      >
        {g.key}
      </Link>,
    ]),
    ...(tx.group ? [["Closed", tx.group.why] as [string, React.ReactNode]] : []),
    ["Tries", String(tx.tries)],
    [
      "Took",
      tx.finishedAt ? span(new Date(tx.finishedAt).getTime() - new Date(tx.receivedAt).getTime()) : "not yet ended",
    ],
    [
      "Transaction",
      <span key="t" className="data">
        {tx.id}
      </span>,
    ],
  ];
  return (
    <>
      <PageHead
        title={<span className="data !text-[17px] !font-bold">{tx.reference || tx.id.slice(0, 13)}</span>}
        facts={
          <span className="flex min-w-0 items-center gap-1.5 font-semibold" data-testid="state">
            <Mark state={tx.state} />
            <span className="shrink-0">{tx.state}</span>
            <span className="min-w-0 truncate font-normal" title={tx.reason ?? ""}>
              {tx.reason}
              {tx.state === "waiting" &&
                waiting &&
                ` for ${waiting.target}, tries again ${waiting.nextTryAt ? upcoming(waiting.nextTryAt, now) : "in its turn"}`}
            </span>
          </span>
        }
      >
        {!tx.parent && !tx.group && (
          <button type="button" className="btn" onClick={keep}>
            Keep as sample
          </button>
        )}
        {letter && (
          <button
            type="button"
            className="btn btn-go"
            onClick={() => go(`/dead-letters?cause=${letter.cause}&letter=${letter.id}`)}
          >
            Repair
          </button>
        )}
        <button type="button" className="btn" disabled={!waiting} onClick={tryNow}>
          Try now
        </button>
      </PageHead>
      <dl className="flex shrink-0 flex-wrap gap-x-8 gap-y-1 border-b border-line bg-sheet px-4 py-2">
        {facts.map(([k, v]) => (
          <div key={k}>
            <dt className="text-[12.5px] text-quiet">{k}</dt>
            <dd className="font-semibold">{v}</dd>
          </div>
        ))}
      </dl>
      {tx.warnings.map((w) => (
        <p key={w} className="border-b border-line bg-change px-4 py-1">
          {w}
        </p>
      ))}
      {version.error && (
        <p className="p-4 text-quiet">Version {tx.version} of the flow is gone, so its steps cannot be shown.</p>
      )}
      {tx.progress.length > 0 && <Progress tx={tx} chosen={partState} onChoose={setPartState} />}
      {doc && row && (
        <>
          <Sheet
            label="What each step did"
            doc={doc}
            rows={rows}
            focus={at}
            onFocus={setFocus}
            onOpen={() => {
              const part = parts.columns[at.column - 1];
              if (part) go(`/transactions/${part.key}`);
            }}
            columns={[
              { key: tx.id, title: tx.reference || "message", sub: inspection.data?.state, rehearsal: inspection.data },
              ...parts.columns,
            ]}
            last={parts.more}
            intakeText={<IntakeSentence intake={doc.intake} />}
            lane={
              tx.partCount
                ? undefined
                : {
                    head: <LaneHead tx={tx} now={now} />,
                    width: "minmax(380px, 5fr)",
                    cell: (r) => <Lane tx={tx} row={r} now={now} />,
                  }
            }
          />
          {shown && <TransactionDesk row={row} tx={shown} inspection={shownInspection} now={now} />}
        </>
      )}
    </>
  );
}

/** From the first moment to the last that is known or planned. */
function extent(tx: TransactionWhole, now: number): [number, number] {
  const from = new Date(tx.receivedAt).getTime();
  const ends = tx.deliveries.flatMap((d) => [
    ...d.tries.map((t) => new Date(t.at).getTime() + t.took),
    ...d.upcoming.map((u) => new Date(u.planned).getTime()),
  ]);
  const to = Math.max(
    tx.finishedAt ? new Date(tx.finishedAt).getTime() : from,
    ...ends,
    tx.state === "waiting" || tx.state === "under way" ? now : from,
  );
  return [from, Math.max(to, from + 20)];
}

function LaneHead({ tx, now }: { tx: TransactionWhole; now: number }) {
  const [from, to] = extent(tx, now);
  return (
    <div className="flex justify-between font-normal">
      <span>{clock(tx.receivedAt)}</span>
      <span>+ {span((to - from) / 2)}</span>
      <span>+ {span(to - from)}</span>
    </div>
  );
}

/** Tries, waits and what is still to come, on a line of time. */
function Lane({ tx, row, now }: { tx: TransactionWhole; row: Row; now: number }) {
  const d = row.kind === "step" ? tx.deliveries.find((x) => rowKey(x.path) === row.key) : undefined;
  const [from, to] = extent(tx, now);
  const x = (ms: number) => `${Math.max(0, Math.min(100, ((ms - from) / (to - from)) * 100))}%`;
  if (row.kind === "intake")
    return (
      <div className="relative h-full min-h-7">
        <i className="absolute top-2 bottom-2 left-0 w-1 bg-deep" />
      </div>
    );
  if (!d) return null;
  return (
    <div className="relative h-full min-h-7" data-testid="lane">
      <i
        className="absolute top-1/2 border-t-2 border-dotted border-wait"
        style={{
          left: x(new Date(d.tries[0]?.at ?? tx.receivedAt).getTime()),
          right: `calc(100% - ${x(new Date(d.upcoming.at(-1)?.planned ?? d.tries.at(-1)?.at ?? tx.receivedAt).getTime())})`,
        }}
      />
      {d.tries.map((t) => (
        <i
          key={t.n}
          title={`try ${t.n}, ${clock(t.at)}: ${t.status || t.detail}`}
          className={`absolute top-2 bottom-2 min-w-1.5 ${t.outcome === "delivered" ? "bg-done" : "bg-dead"}`}
          style={{ left: x(new Date(t.at).getTime()), width: `calc(${x(from + t.took)} + 1px)` }}
        />
      ))}
      {d.upcoming.map((u) => (
        <i
          key={u.n}
          title={`try ${u.n} at ${clock(u.planned)}`}
          className="absolute top-1.5 bottom-1.5 w-1 -translate-x-full border border-buoy bg-sheet"
          style={{ left: x(new Date(u.planned).getTime()) }}
        />
      ))}
      {(tx.state === "waiting" || tx.state === "under way") && (
        <i className="absolute inset-y-0 w-px bg-buoy" style={{ left: x(now) }} />
      )}
    </div>
  );
}

function TransactionDesk({
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
  const last = d?.tries.at(-1);
  return (
    <section aria-label="Desk" className="grid h-[42%] shrink-0 grid-cols-3 border-t-2 border-deep">
      <div className="flex min-h-0 min-w-0 flex-col border-r border-line bg-sheet">
        <h2 className="pane-head bg-paper">
          {row.kind === "intake" ? "As it came in" : d ? "What was sent" : `Before step ${row.n}`}
        </h2>
        <div className="min-h-0 flex-1 overflow-auto" data-testid="before">
          {row.kind === "intake" ? (
            <Document body={inspection?.intake.body} />
          ) : d ? (
            <Sent rehearsal={inspection} path={d.path} />
          ) : (
            <>
              {entry?.names?.map((n) => (
                <Seen key={n.name} name={n.name} json={n.json} open={n.name === "part"} />
              ))}
              <Document body={entry?.before} />
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
                {last
                  ? `try ${last.n}, ${clock(last.at)}${last.status ? `, HTTP ${last.status}` : ""}`
                  : "not tried yet"}
              </span>
            </h2>
            <div className="min-h-0 flex-1 overflow-auto" data-testid="last-answer">
              {last?.detail && <p className="m-3 border-l-4 border-dead bg-loss px-3 py-2">{last.detail}</p>}
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
              {row.kind === "intake" ? "What the caller got" : `After step ${row.n}`}
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
              ) : (
                <Document body={entry?.after} />
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
      </h2>
      <ol className="min-h-0 flex-1 overflow-auto" data-testid="tries">
        {d.tries.map((t, i) => (
          <li key={t.n}>
            {t.round !== (d.tries[i - 1]?.round ?? 0) && (
              <p className="border-b border-line px-3 py-0.5 text-[12.5px] text-quiet">sent again by a person</p>
            )}
            <div className="flex items-center gap-3 border-b border-line px-3 py-1.5">
              <Mark state={t.outcome === "delivered" ? "delivered" : "turned away"} />
              <span className="w-5">{t.n}</span>
              <span className="min-w-0 flex-1 truncate">
                <Time at={t.at} /> {t.status ? t.status : t.detail}
              </span>
              <span className="text-quiet">{span(t.took)}</span>
            </div>
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
