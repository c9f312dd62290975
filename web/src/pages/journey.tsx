import { useQuery } from "@tanstack/react-query";
import { type KeyboardEvent, type ReactNode, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { get, type Schemas, type State } from "../api/client";
import { useFlows, useInspection } from "../api/queries";
import { Mark } from "../ui/marks";
import { PageHead, Trouble } from "../ui/parts";
import { clock, span, Time, useNow } from "../ui/time";

type Journey = Schemas["Journey"];
type Place = Schemas["Place"];
const at = (t: string) => new Date(t).getTime();

/** All that came of one business message, on one axis of time. */
export default function JourneyPage() {
  const { id = "" } = useParams();
  const go = useNavigate();
  const now = useNow(1000);
  const flows = useFlows();
  const journey = useQuery({
    queryKey: ["transactions", id, "journey"],
    queryFn: () => get<Journey>(`/api/v1/transactions/${id}/journey`),
  });
  const [chosen, setChosen] = useState<number | null>(null);
  if (journey.error) return <Trouble error={journey.error} />;
  const j = journey.data;
  if (!j) return <p className="p-6 text-quiet">Loading…</p>;
  const own = j.places.findIndex((p) => p.transaction?.id === id);
  const row = chosen ?? (troubled(j) >= 0 ? troubled(j) : Math.max(0, own));
  const place = j.places[row];
  const axis = axisOf(j, now);
  const title = (name: string) => flows.data?.find((f) => f.name === name)?.title || name;
  const onKey = (e: KeyboardEvent) => {
    const to = e.key === "ArrowDown" ? row + 1 : e.key === "ArrowUp" ? row - 1 : -1;
    if (to >= 0 && to < j.places.length) {
      e.preventDefault();
      setChosen(to);
    }
    if (e.key === "Enter" && place?.transaction) go(`/transactions/${place.transaction.id}`);
  };
  return (
    <>
      <PageHead
        title={`Journey of ${j.reference || id.slice(0, 13)}`}
        facts={
          <span className="flex items-center gap-1.5 font-semibold" data-testid="state">
            <Mark state={j.state} />
            {j.state}
          </span>
        }
      >
        {place?.transaction && (
          <>
            <Link className="btn" to={`/transactions/beside?a=${place.transaction.id}`}>
              Beside another…
            </Link>
            <Link className="btn btn-go" to={`/transactions/${place.transaction.id}`}>
              Its sheet
            </Link>
          </>
        )}
      </PageHead>
      <p className="border-b border-line bg-sheet px-4 py-2" data-testid="sentence">
        <Sentence j={j} now={now} title={title} />
      </p>
      {j.joined.length > 0 && (
        <p className="border-b border-line bg-sheet px-4 py-1.5 text-quiet">
          It was gathered from {j.joined.length} messages:{" "}
          {j.joined.slice(0, 12).map((x) => (
            <Link key={x} className="data mr-2 underline" to={`/journeys/${x}`}>
              {x.slice(-8)}
            </Link>
          ))}
        </p>
      )}
      <div
        role="grid"
        aria-label="Where it went"
        tabIndex={0}
        className="min-h-0 flex-1 overflow-auto outline-offset-[-2px]"
        onKeyDown={onKey}
        aria-activedescendant={`place-${row}`}
      >
        <div
          role="row"
          className="sticky top-0 z-10 grid grid-cols-[minmax(260px,30%)_1fr_minmax(180px,20%)] border-b border-line bg-paper"
        >
          <div role="columnheader" className="head px-3 py-1.5">
            Where it went
          </div>
          <div role="columnheader" aria-label="When" className="relative h-7">
            {axis.ticks.map((t) => (
              <span
                key={t.says}
                className="absolute top-1.5 -translate-x-1/2 text-[12px] whitespace-nowrap text-quiet first:translate-x-0 last:-translate-x-full"
                style={{ left: `${t.x}%` }}
              >
                {t.says}
              </span>
            ))}
          </div>
          <div role="columnheader" className="head px-3 py-1.5">
            What it did there
          </div>
        </div>
        {j.places.map((p, i) => (
          <div
            key={p.transaction?.id ?? `${p.queue}${p.putAt}`}
            id={`place-${i}`}
            role="row"
            tabIndex={-1}
            aria-selected={i === row}
            data-place={p.transaction?.flow ?? p.queue}
            className={`grid grid-cols-[minmax(260px,30%)_1fr_minmax(180px,20%)] items-center border-b border-line ${i === row ? "bg-mark shadow-[inset_3px_0_var(--color-buoy)]" : "bg-sheet"}`}
            onClick={() => setChosen(i)}
            onDoubleClick={() => p.transaction && go(`/transactions/${p.transaction.id}`)}
          >
            <div role="gridcell" className="truncate px-3 py-1.5" style={{ paddingLeft: 12 + p.depth * 14 }}>
              <Where p={p} title={title} />
            </div>
            <div role="gridcell" className="relative h-8">
              <Marks p={p} axis={axis} now={now} />
            </div>
            <div role="gridcell" className="flex items-center gap-1.5 truncate px-3 py-1.5">
              <Did p={p} />
            </div>
          </div>
        ))}
        {j.more > 0 && <p className="p-3 text-quiet">and {j.more} more</p>}
      </div>
      {place?.transaction && <Chosen key={place.transaction.id} p={place} now={now} />}
    </>
  );
}

/** The place that the whole has its state from. */
function troubled(j: Journey) {
  if (j.state === "delivered" || j.state === "turned away") return -1;
  const is = (p: Place) => p.transaction?.state === j.state;
  const inner = j.places.findIndex((p) => is(p) && p.deliveries.some((d) => d.state !== "delivered"));
  return inner >= 0 ? inner : j.places.findIndex(is);
}

function Sentence({ j, now, title }: { j: Journey; now: number; title: (flow: string) => string }) {
  const first = j.places[0];
  if (!first) return null;
  const flows = new Set(j.places.flatMap((p) => p.transaction?.flow ?? []));
  const parts = j.places.filter((p) => p.by === "part").length + j.places.reduce((n, p) => n + p.partsLeft, 0);
  const waits = j.places.filter((p) => !p.transaction);
  const t = troubled(j) >= 0 ? j.places[troubled(j)] : undefined;
  const stuck = t?.deliveries.find((d) => d.state === "waiting" || d.state === "dead letter");
  const failed = stuck?.tries.filter((x) => x.outcome !== "delivered") ?? [];
  return (
    <>
      Came in {first.source && `by ${first.source} `}at{" "}
      {first.transaction && <Time at={first.transaction.receivedAt} />}
      {flows.size > 1 && `, went through ${[...flows].map(title).join(", ")}`}
      {parts > 0 && `, in ${parts} parts`}
      {waits.length > 0 && (
        <>
          ; <b>{waits.length === 1 ? `one waits in the queue ${waits[0]?.queue}` : `${waits.length} wait in queues`}</b>
        </>
      )}
      {t?.transaction && j.state !== "under way" && (
        <>
          {"; "}
          <b>
            {j.state === "dead letter" ? "one is a dead letter" : "one waits"}
            {stuck
              ? ` ${j.state === "waiting" ? "for" : "at"} ${stuck.target}${failed.length ? `, which ${failed.at(-1)?.status ? `has answered ${failed.at(-1)?.status}` : "has not answered"} ${failed.length === 1 ? "once" : `${failed.length} times`}` : ""}`
              : t.transaction.placeText && ` at ${t.transaction.placeText}`}
          </b>
          {stuck?.nextTryAt &&
            `; next try ${at(stuck.nextTryAt) <= now ? "now" : `in ${span(at(stuck.nextTryAt) - now)}`}`}
          {stuck && stuck.upcoming.length > 0 && `, given up at ${clock(stuck.upcoming.at(-1)?.latest ?? "")}`}
        </>
      )}
      {j.state === "delivered" && ", and all that it had to do is done"}.
    </>
  );
}

const by: Record<string, string> = {
  part: "part",
  group: "gathered in a group",
  call: "called",
  letter: "tells of the dead letter",
  again: "sent again",
};

function Where({ p, title }: { p: Place; title: (flow: string) => string }): ReactNode {
  if (!p.transaction)
    return (
      <>
        waits in the queue <span className="chip">{p.queue}</span>
      </>
    );
  const t = p.transaction;
  if (p.by === "part")
    return (
      <>
        part {(t.part?.index ?? 0) + 1} <span className="text-quiet">{t.reference}</span>
      </>
    );
  return (
    <>
      <b className="text-deep">{title(t.flow)}</b>{" "}
      <span className="text-quiet">
        {by[p.by] ? `${by[p.by]}, version ${t.version}` : `${p.source || p.by}, version ${t.version}`}
      </span>
    </>
  );
}

function Did({ p }: { p: Place }) {
  const t = p.transaction;
  if (!t)
    return (
      <>
        <Mark state="waiting" />
        waits since {p.putAt && clock(p.putAt)}
      </>
    );
  const last = p.deliveries.at(-1);
  const done = p.deliveries.filter((d) => d.state === "delivered");
  const words =
    t.state === "delivered"
      ? done.length > 0
        ? `delivered to ${[...new Set(done.map((d) => d.target))].join(", ")}`
        : t.partCount
          ? `${t.partCount} parts done`
          : "done"
      : t.state === "turned away"
        ? (t.reason ?? "")
        : last && last.tries.length > 0
          ? `${last.tries.at(-1)?.status || "no answer"}, ${last.tries.length} tries`
          : (t.reason ?? t.placeText);
  return (
    <>
      <Mark state={t.state as State} />
      <span className="truncate" title={words}>
        {words || t.state}
      </span>
    </>
  );
}

type Axis = { x: (ms: number) => number; ticks: { x: number; says: string }[] };

/** Elastic: the first second has as much room as the hours behind it. */
function axisOf(j: Journey, now: number): Axis {
  const moments = j.places.flatMap((p) => [
    ...(p.transaction ? [at(p.transaction.receivedAt)] : []),
    ...(p.transaction?.finishedAt ? [at(p.transaction.finishedAt)] : []),
    ...(p.putAt ? [at(p.putAt)] : []),
    ...p.deliveries.flatMap((d) => [...d.tries.map((t) => at(t.at) + t.took), ...d.upcoming.map((u) => at(u.planned))]),
  ]);
  const open = j.state === "waiting" || j.state === "under way";
  const from = Math.min(...moments, now);
  const to = Math.max(...moments, open ? now : 0, from + 50);
  const unit = 20; // milliseconds
  const all = Math.log1p((to - from) / unit);
  const x = (ms: number) => Math.max(0, Math.min(100, (100 * Math.log1p(Math.max(0, ms - from) / unit)) / all));
  const ticks = [{ x: 0, says: clock(new Date(from).toISOString()) }];
  for (const [ms, says] of [
    [100, "+ 100 ms"],
    [1000, "+ 1 s"],
    [10_000, "+ 10 s"],
    [60_000, "+ 1 min"],
    [600_000, "+ 10 min"],
    [3_600_000, "+ 1 h"],
    [86_400_000, "+ 1 day"],
  ] as const)
    if (ms < (to - from) * 0.8 && x(from + ms) - (ticks.at(-1)?.x ?? 0) > 10) ticks.push({ x: x(from + ms), says });
  if (open && x(now) < 97) ticks.push({ x: x(now), says: "now" });
  ticks.push({ x: 100, says: clock(new Date(to).toISOString()) });
  return { x, ticks };
}

function Marks({ p, axis, now }: { p: Place; axis: Axis; now: number }) {
  const t = p.transaction;
  const begin = at(t?.receivedAt ?? p.putAt ?? new Date(now).toISOString());
  const end = t?.finishedAt ? at(t.finishedAt) : now;
  const bar = (from: number, to: number) => ({
    left: `${axis.x(from)}%`,
    width: `max(6px, ${axis.x(to) - axis.x(from)}%)`,
  });
  const tries = p.deliveries.flatMap((d) => d.tries);
  return (
    <>
      {p.putAt && (
        <i
          className="absolute top-1/2 border-t-2 border-dotted border-wait"
          style={bar(at(p.putAt), t ? begin : now)}
          title={`in the queue since ${clock(p.putAt)}`}
        />
      )}
      {t && tries.length === 0 && <i className="absolute top-2.5 h-3 bg-deep" style={bar(begin, end)} />}
      {t && tries.length > 0 && (
        <i
          className="absolute top-1/2 border-t-2 border-dotted border-wait"
          style={bar(begin, Math.min(end, at(tries.at(-1)?.at ?? t.receivedAt)))}
        />
      )}
      {tries.map((x) => (
        <i
          key={x.at}
          title={`${clock(x.at)}: ${x.status || x.detail}`}
          className={`absolute top-2 h-4 w-1.5 ${x.outcome === "delivered" ? "bg-done" : x.outcome === "late" || x.outcome === "unknown" ? "bg-quiet" : "bg-dead"}`}
          style={{ left: `${axis.x(at(x.at))}%` }}
        />
      ))}
      {p.deliveries
        .flatMap((d) => d.upcoming)
        .map((u) => (
          <i
            key={u.planned + u.n}
            title={`try ${u.n} at ${clock(u.planned)}`}
            className="absolute top-2 h-4 w-1.5 -translate-x-full border border-buoy bg-sheet"
            style={{ left: `${axis.x(at(u.planned))}%` }}
          />
        ))}
    </>
  );
}

/** The chosen place: step by step, what was sent, and how its target is for everybody. */
function Chosen({ p, now }: { p: Place; now: number }) {
  const id = p.transaction?.id ?? "";
  const inspection = useInspection(id);
  const d = p.deliveries.find((x) => x.state !== "delivered") ?? p.deliveries.at(-1);
  const sent = inspection.data?.deliveries.find((x) => x.path === d?.path);
  const target = useQuery({
    queryKey: ["connections", d?.target, "now"],
    enabled: !!d,
    refetchInterval: 5000,
    queryFn: () => get<Schemas["Target"]>(`/api/v1/targets/${d?.target}`),
  });
  return (
    <section aria-label="The chosen place" className="grid h-[42%] shrink-0 grid-cols-3 border-t-2 border-deep">
      <div className="flex min-h-0 flex-col border-r border-line">
        <h2 className="pane-head">Step by step</h2>
        <ol className="min-h-0 flex-1 overflow-auto" data-testid="steps">
          {inspection.data?.trace.map((e) => (
            <li key={e.path} className="flex gap-2 border-b border-line px-3 py-1">
              <b className="w-32 shrink-0 truncate text-deep">{e.step}</b>
              <span className="min-w-0 flex-1 truncate" title={e.error ?? e.outcome}>
                {e.outcome}
              </span>
            </li>
          ))}
        </ol>
      </div>
      <div className="flex min-h-0 flex-col border-r border-line bg-sheet">
        <h2 className="pane-head bg-paper">
          What was sent{" "}
          <span className="font-normal text-quiet">
            {sent ? `${sent.request.method ?? ""} ${sent.request.url ?? ""}` : ""}
          </span>
        </h2>
        <pre className="data min-h-0 flex-1 overflow-auto p-3 whitespace-pre-wrap">
          {sent?.request.text ?? (d ? "" : "nothing went out from here")}
        </pre>
      </div>
      <div className="flex min-h-0 flex-col">
        <h2 className="pane-head">
          {d ? `${d.target} now` : "No target"}{" "}
          {target.data && (
            <span className={`font-normal ${target.data.condition === "works" ? "text-done" : "text-dead"}`}>
              {target.data.condition}
            </span>
          )}
        </h2>
        {d && target.data && (
          <div className="space-y-1 p-3">
            <p>
              {target.data.good} of the last {target.data.good + target.data.bad} tries delivered
            </p>
            {target.data.waiting > 0 && (
              <p>
                {target.data.waiting} wait{target.data.oldest && `, the oldest ${span(now - at(target.data.oldest))}`}
              </p>
            )}
            {target.data.probeAt && (
              <p>breaker open, next probe in {span(Math.max(0, at(target.data.probeAt) - now))}</p>
            )}
            {target.data.held && <p>held for maintenance</p>}
            {target.data.away && <p>the runner {target.data.away.runner}, by which it is reached, is away</p>}
            <p className="pt-1">
              <Link className="btn" to={`/connections?open=${d.target}`}>
                See the connection
              </Link>
            </p>
          </div>
        )}
      </div>
    </section>
  );
}
