import { useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { toast } from "sonner";
import { call } from "../api/client";
import { useInspection, useTransaction, useVersion } from "../api/queries";
import { type FlowDocument, rowKey, rowsOf } from "../model/model";
import { IntakeSentence } from "../sheet/intake";
import { type Focus, Sheet } from "../sheet/sheet";
import { Mark } from "../ui/marks";
import { PageHead, says, Trouble } from "../ui/parts";
import { Time, took, useNow } from "../ui/time";
import { Lane, LaneHead } from "./lane";
import { Progress, useParts } from "./parts";
import { Away } from "./runners";
import { TransactionDesk } from "./transaction-desk";
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
      const name = tx.reference || tx.id.slice(0, 13);
      await call(`/api/v1/transactions/${id}/sample`, { body: { name } });
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
    ...(tx.caller
      ? [
          [
            "Called by",
            <Link key="c" className="font-bold hover:underline" to={`/transactions/${tx.caller}`}>
              step {tx.callerPath}
            </Link>,
          ] as [string, React.ReactNode],
        ]
      : []),
    ...(tx.letterOf
      ? [
          [
            "Tells of",
            <Link key="l" className="font-bold hover:underline" to={`/transactions/${tx.letterOf}`}>
              a dead letter
            </Link>,
          ] as [string, React.ReactNode],
        ]
      : []),
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
    ["Took", tx.finishedAt ? took(tx.receivedAt, tx.finishedAt) : "not yet ended"],
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
              {waiting && <Away target={waiting.target} />}
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
        <Link className="btn" to={`/journeys/${tx.id}`}>
          Its journey
        </Link>
        <Link className="btn" to={`/transactions/beside?a=${tx.id}`}>
          Beside another…
        </Link>
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
