import { useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { enc, get, type MinuteCount, type State, type Transaction } from "../api/client";
import { useCounts, useFlows } from "../api/queries";
import { Mark, StateWord } from "../ui/marks";
import { Empty, PageHead, Select, Text, Trouble } from "../ui/parts";
import { age, clock, number, span, took, useNow } from "../ui/time";

const states: State[] = ["under way", "waiting", "delivered", "turned away", "dead letter"];
const page = 100;
const columns = "110px 130px minmax(140px,1fr) minmax(200px,2.2fr) 60px 110px 100px 80px";

export function TransactionsPage() {
  const [search, setSearch] = useSearchParams();
  const flow = search.get("flow") ?? "";
  const state = search.get("state") ?? "";
  const reference = search.get("reference") ?? "";
  const from = search.get("from") ?? "";
  const to = search.get("to") ?? "";
  const set = (part: Record<string, string>) => {
    const next = new URLSearchParams(search);
    for (const [k, v] of Object.entries(part)) v ? next.set(k, v) : next.delete(k);
    setSearch(next, { replace: true });
  };
  const flows = useFlows();
  const go = useNavigate();
  const client = useQueryClient();
  const now = useNow();
  const [held, setHeld] = useState(false);
  const [newer, setNewer] = useState(0);
  const [row, setRow] = useState(0);
  const scroller = useRef<HTMLDivElement>(null);
  const filter = `flow=${enc(flow)}&state=${enc(state)}&reference=${enc(reference)}&from=${enc(from)}&to=${enc(to)}`;
  // The list has a key of its own, so that news does not move what a person reads.
  const key = useMemo(() => ["transaction-list", filter], [filter]);
  const list = useInfiniteQuery({
    queryKey: key,
    initialPageParam: "",
    queryFn: ({ pageParam, signal }) =>
      get<Transaction[]>(`/api/v1/transactions?${filter}&limit=${page}&after=${pageParam}`, signal),
    getNextPageParam: (last) => (last.length === page ? last.at(-1)?.id : undefined),
  });
  const rows = useMemo(() => list.data?.pages.flat() ?? [], [list.data]);
  const title = useMemo(() => new Map(flows.data?.map((f) => [f.name, f.title])), [flows.data]);

  const refresh = useCallback(() => {
    setNewer(0);
    scroller.current?.scrollTo({ top: 0 });
    client.setQueryData(
      key,
      (old: typeof list.data) => old && { pages: old.pages.slice(0, 1), pageParams: old.pageParams.slice(0, 1) },
    );
    client.invalidateQueries({ queryKey: key });
  }, [client, key]);
  const first = rows[0]?.id;
  useEffect(() => {
    let stopped = false;
    const look = async () => {
      const top = (scroller.current?.scrollTop ?? 0) < 8;
      if (top && !held) {
        client.invalidateQueries({ queryKey: key });
        return;
      }
      const fresh = await get<Transaction[]>(`/api/v1/transactions?${filter}&limit=${page}`).catch(() => []);
      const known = fresh.findIndex((t) => t.id === first);
      if (!stopped) setNewer(known < 0 ? fresh.length : known);
    };
    const unsubscribe = client.getQueryCache().subscribe((e) => {
      if (
        e.type === "updated" &&
        e.action.type === "invalidate" &&
        e.query.queryKey[0] === "transactions" &&
        e.query.queryKey[1] === "counts"
      )
        look();
    });
    return () => {
      stopped = true;
      unsubscribe();
    };
  }, [client, key, filter, first, held]);

  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => 31,
    overscan: 12,
  });
  const items = virtual.getVirtualItems();
  const lastShown = items.at(-1)?.index ?? 0;
  useEffect(() => {
    if (lastShown > rows.length - 20 && list.hasNextPage && !list.isFetchingNextPage) list.fetchNextPage();
  }, [lastShown, rows.length, list]);
  const onKey = (e: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1, PageDown: 15, PageUp: -15 }[e.key];
    if (step) {
      e.preventDefault();
      const next = Math.max(0, Math.min(rows.length - 1, row + step));
      setRow(next);
      virtual.scrollToIndex(next);
    } else if (e.key === "Enter" && rows[row]) go(`/transactions/${rows[row].id}`);
  };
  return (
    <>
      <PageHead
        title="Transactions"
        facts={
          <div className="flex items-center gap-2">
            <div className="w-44">
              <Select
                label="Flow"
                value={flow}
                onChange={(v) => set({ flow: v })}
                options={[["", "every flow"], ...(flows.data ?? []).map((f): [string, string] => [f.name, f.title])]}
              />
            </div>
            <div className="w-36">
              <Select
                label="State"
                value={state}
                onChange={(v) => set({ state: v })}
                options={[["", "every state"], ...states.map((s): [string, string] => [s, s])]}
              />
            </div>
            <div className="w-44">
              <Text
                label="Reference"
                mono
                placeholder="Reference"
                value={reference}
                onChange={(v) => set({ reference: v })}
              />
            </div>
            {(from || to) && (
              <button type="button" className="btn-bare" onClick={() => set({ from: "", to: "" })}>
                {from && clock(from)} to {to && clock(to)} ×
              </button>
            )}
          </div>
        }
      >
        {newer > 0 && (
          <button type="button" className="btn-bare" onClick={refresh}>
            {newer === page ? `${page} or more` : newer} newer, show
          </button>
        )}
        <button
          type="button"
          className="btn"
          aria-pressed={held}
          onClick={() => {
            if (held) refresh();
            setHeld(!held);
          }}
        >
          {held ? "Follow" : "Hold still"}
        </button>
      </PageHead>
      <Strip flow={flow} from={from} to={to} onSpan={(a, b) => set({ from: a, to: b })} />
      {list.error && <Trouble error={list.error} />}
      <div className="head grid border-b border-line px-3 py-1.5" style={{ gridTemplateColumns: columns }}>
        <span>State</span>
        <span>Reference</span>
        <span>Flow</span>
        <span>Where it is</span>
        <span className="text-right">Tries</span>
        <span className="pl-4">Next try</span>
        <span className="text-right">Took</span>
        <span className="text-right">Age</span>
      </div>
      <div
        ref={scroller}
        className="min-h-0 flex-1 overflow-auto outline-offset-[-2px]"
        tabIndex={0}
        {...{ role: rows.length ? "grid" : "region", "aria-label": "Transactions" }}
        onKeyDown={onKey}
      >
        {list.data && rows.length === 0 && (
          <Empty title="No transaction fits">
            {filter.replace(/\w+=/g, "").replaceAll("&", "")
              ? "Change the filter above."
              : "Call a flow's webhook: its sheet shows a ready-made request."}
          </Empty>
        )}
        <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
          {items.map((v) => {
            const t = rows[v.index];
            if (!t) return null;
            return (
              <div
                key={t.id}
                role="row"
                tabIndex={-1}
                aria-selected={v.index === row}
                data-reference={t.reference}
                className={`absolute grid w-full cursor-pointer items-center border-b border-line px-3 hover:bg-mark ${v.index === row ? "bg-mark" : "bg-sheet"}`}
                style={{ gridTemplateColumns: columns, height: 31, transform: `translateY(${v.start}px)` }}
                onClick={() => go(`/transactions/${t.id}`)}
              >
                <span role="gridcell">
                  <StateWord state={t.state} />
                </span>
                <span role="gridcell" className="data truncate !font-bold">
                  {t.reference || t.id.slice(0, 13)}
                </span>
                <span role="gridcell" className="truncate">
                  {title.get(t.flow) ?? t.flow}
                </span>
                <span role="gridcell" className="truncate">
                  {where(t)}
                </span>
                <span role="gridcell" className="text-right">
                  {t.tries || ""}
                </span>
                <span role="gridcell" className="pl-4">
                  {t.nextTryAt && upcoming(t.nextTryAt, now)}
                </span>
                <span role="gridcell" className="text-right">
                  {t.finishedAt && took(t.receivedAt, t.finishedAt)}
                </span>
                <span role="gridcell" className="text-right text-quiet" title={t.receivedAt}>
                  {age(now - new Date(t.receivedAt).getTime())}
                </span>
              </div>
            );
          })}
        </div>
      </div>
    </>
  );
}

export function upcoming(at: string, now: number): string {
  const left = new Date(at).getTime() - now;
  return left <= 0 ? "now" : `in ${span(left)}`;
}

function where(t: Transaction): string {
  if (t.state === "turned away") return t.reason ?? "";
  if (t.state === "delivered") return "all it had to do is done";
  return t.reason ? `${t.placeText}: ${t.reason}` : t.placeText;
}

/** Two hours by minutes; drag to choose a span. */
function Strip({
  flow,
  from,
  to,
  onSpan,
}: {
  flow: string;
  from: string;
  to: string;
  onSpan: (from: string, to: string) => void;
}) {
  const minutes = 120;
  const now = useNow(15_000);
  const end = Math.floor(now / 60_000) + 1;
  const start = end - minutes;
  const iso = (m: number) => new Date(m * 60_000).toISOString();
  const counts = useCounts(flow, iso(start), iso(end));
  const box = useRef<HTMLDivElement>(null);
  const [drag, setDrag] = useState<[number, number] | null>(null);
  const total = (c: MinuteCount) => c.underWay + c.waiting + c.delivered + c.turnedAway + c.deadLetters;
  const most = Math.max(4, ...(counts.data ?? []).map(total));
  const minuteAt = (x: number) => {
    const r = box.current?.getBoundingClientRect();
    return r ? start + Math.max(0, Math.min(minutes, Math.round(((x - r.left) / r.width) * minutes))) : start;
  };
  const chosen: [number, number] | null = drag
    ? [Math.min(...drag), Math.max(...drag)]
    : from && to
      ? [new Date(from).getTime() / 60_000, new Date(to).getTime() / 60_000]
      : null;
  const left = (m: number) => `${Math.max(0, Math.min(100, ((m - start) / minutes) * 100))}%`;
  return (
    <section aria-label="The last two hours" className="shrink-0 border-b-2 border-deep bg-sheet px-4 pt-2">
      <div
        ref={box}
        className="relative h-14 cursor-crosshair touch-none"
        onPointerDown={(e) => {
          e.currentTarget.setPointerCapture(e.pointerId);
          setDrag([minuteAt(e.clientX), minuteAt(e.clientX)]);
        }}
        onPointerMove={(e) => drag && setDrag([drag[0], minuteAt(e.clientX)])}
        onPointerUp={() => {
          if (drag && drag[0] !== drag[1]) onSpan(iso(Math.min(...drag)), iso(Math.max(...drag)));
          setDrag(null);
        }}
      >
        {chosen && (
          <div
            className="absolute inset-y-0 border-x-2 border-buoy bg-change"
            style={{ left: left(chosen[0]), right: `calc(100% - ${left(chosen[1])})` }}
          />
        )}
        <svg
          width="100%"
          height="100%"
          viewBox={`0 0 ${minutes} 56`}
          preserveAspectRatio="none"
          className="relative"
          role="img"
          aria-label={`${number((counts.data ?? []).reduce((n, c) => n + total(c), 0))} transactions in two hours`}
        >
          {counts.data?.map((c) => {
            const x = Math.floor(new Date(c.minute).getTime() / 60_000) - start;
            const scale = 52 / most;
            let y = 56;
            return [
              [c.delivered + c.turnedAway + c.underWay, "var(--color-deep)", 0.5],
              [c.waiting, "var(--color-wait)", 1],
              [c.deadLetters, "var(--color-dead)", 1],
            ].map(([n, colour, opacity]) => {
              const h = (n as number) * scale;
              y -= h;
              return (
                <rect
                  key={`${c.minute}${colour}`}
                  x={x + 0.1}
                  y={y}
                  width="0.8"
                  height={h}
                  fill={colour as string}
                  opacity={opacity as number}
                />
              );
            });
          })}
        </svg>
      </div>
      <div className="flex justify-between pb-1 text-[12px] text-quiet">
        <span>{clock(iso(start)).slice(0, 5)}</span>
        <span className="flex items-center gap-3">
          drag to choose a span
          <span className="flex items-center gap-1">
            <Mark state="waiting" size={9} /> waiting
          </span>
          <span className="flex items-center gap-1">
            <Mark state="dead letter" size={9} /> dead letter
          </span>
        </span>
        <span>{clock(iso(end)).slice(0, 5)}</span>
      </div>
    </section>
  );
}
