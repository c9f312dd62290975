import type { TransactionWhole } from "../api/client";
import { type Row, rowKey } from "../model/model";
import { clock, span } from "../ui/time";

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

export function LaneHead({ tx, now }: { tx: TransactionWhole; now: number }) {
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
export function Lane({ tx, row, now }: { tx: TransactionWhole; row: Row; now: number }) {
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
          className={`absolute top-2 bottom-2 min-w-1.5 ${t.outcome === "delivered" ? "bg-done" : t.outcome === "late" || t.outcome === "unknown" ? "bg-quiet" : "bg-dead"}`}
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
