import { useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { type KeyboardEvent, useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { call, enc, get, type State, type Transaction } from "../api/client";
import { useFlows } from "../api/queries";
import { useAddress } from "../ui/address";
import { firstOf, useEndless } from "../ui/endless";
import { StateWord } from "../ui/marks";
import { Empty, PageHead, Select, Trouble } from "../ui/parts";
import { age, number, span, took, useNow } from "../ui/time";
import { Export, FilterBox, moment, Views } from "./finding";
import { type Narrowed, SendAgain } from "./send-again";
import { Strip } from "./strip";

const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
const states: State[] = ["under way", "waiting", "delivered", "turned away", "dead letter"];
const page = 100;
const columns = "110px 130px minmax(140px,1fr) minmax(200px,2.2fr) 60px 110px 100px 80px";

export function TransactionsPage() {
  const [search, setSearch] = useAddress();
  const flow = search.get("flow") ?? "";
  const state = search.get("state") ?? "";
  const reference = search.get("reference") ?? "";
  const from = search.get("from") ?? "";
  const to = search.get("to") ?? "";
  const words = search.get("filter") ?? "";
  const journeys = search.get("list") === "journeys";
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
  const [again, setAgain] = useState(false);
  const [newer, setNewer] = useState(0);
  const [chosen, setChosen] = useState(""); // by id: what is chosen stays so, whatever comes above it
  const [over, setOver] = useState(false); // somebody points at the list
  const scroller = useRef<HTMLDivElement>(null);
  const filter = `flow=${enc(flow)}&state=${enc(state)}&reference=${enc(reference)}&from=${enc(from)}&to=${enc(to)}&filter=${enc(words)}&zone=${enc(zone)}${journeys ? "&journeys=true" : ""}`;
  // The list has a key of its own, so that news does not move what a person reads.
  const key = useMemo(() => ["transaction-list", filter], [filter]);
  const list = useInfiniteQuery({
    queryKey: key,
    initialPageParam: "",
    queryFn: ({ pageParam, signal }) =>
      call<Transaction[]>(`/api/v1/transactions?${filter}&limit=${page}&after=${pageParam}&count=${pageParam === ""}`, {
        signal,
      }),
    getNextPageParam: (last) => (last.value.length === page ? last.value.at(-1)?.id : undefined),
    placeholderData: (was) => was,
  });
  const rows = useMemo(() => list.data?.pages.flatMap((p) => p.value) ?? [], [list.data]);
  const total = list.data?.pages[0]?.total;
  const row = Math.max(
    0,
    rows.findIndex((t) => t.id === chosen),
  );
  const title = useMemo(() => new Map(flows.data?.map((f) => [f.name, f.title])), [flows.data]);

  const refresh = useCallback(() => {
    setNewer(0);
    setChosen("");
    scroller.current?.scrollTo({ top: 0 });
    client.setQueryData(key, firstOf<NonNullable<typeof list.data>["pages"][number], unknown>);
    client.invalidateQueries({ queryKey: key });
  }, [client, key]);
  const first = rows[0]?.id;
  useEffect(() => {
    let stopped = false;
    const look = async () => {
      const top = (scroller.current?.scrollTop ?? 0) < 8;
      // What somebody reads, points at or has chosen does not move: what is newer waits until it is asked for.
      const reads = over || scroller.current?.contains(document.activeElement) || chosen !== "";
      if (top && !held && !reads) {
        client.invalidateQueries({ queryKey: key });
        return;
      }
      const fresh = await get<Transaction[]>(`/api/v1/transactions?${filter}&limit=${page}`).catch(() => []);
      const known = fresh.findIndex((t) => t.id === first);
      if (stopped) return;
      setNewer(known < 0 ? fresh.length : known);
      // What is known of a row is brought up to date where it stands.
      const now = new Map(fresh.map((t) => [t.id, t]));
      client.setQueryData(
        key,
        (old: typeof list.data) =>
          old && {
            ...old,
            pages: old.pages.map((p) => ({ ...p, value: p.value.map((t) => now.get(t.id) ?? t) })),
          },
      );
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
  }, [client, key, filter, first, held, over, chosen]);

  const { virtual, items } = useEndless(rows.length, 31, scroller, list);
  const onKey = (e: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1, PageDown: 15, PageUp: -15 }[e.key];
    if (step) {
      e.preventDefault();
      const next = Math.max(0, Math.min(rows.length - 1, row + (chosen ? step : 0)));
      setChosen(rows[next]?.id ?? "");
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
            <FilterBox value={words} onChange={(v) => set({ filter: v })} />
            {(from || to) && (
              <button type="button" className="btn-bare" onClick={() => set({ from: "", to: "" })}>
                {from && moment(from)} to {to && moment(to)} ×
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
        <Link className="btn" to={`/log${flow ? `?flow=${enc(flow)}` : ""}`}>
          Log
        </Link>
        <Views search={search.toString()} onOpen={(q) => setSearch(new URLSearchParams(q))} />
        <button
          type="button"
          className="btn"
          aria-pressed={journeys}
          title="One row for each business message, or one for each transaction"
          onClick={() => set({ list: journeys ? "" : "journeys" })}
        >
          Journeys
        </button>
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
      <div
        className="flex items-center gap-3 border-b border-line px-4 py-1 text-[12.5px] text-quiet"
        data-testid="count"
      >
        {total !== undefined && (
          <span>
            the last {number(Math.min(rows.length, total))} of {number(total)}
            {list.data?.pages[0]?.more ? " or more" : ""}
          </span>
        )}
        <Export filter={filter} />
        {(flow || reference || from || words) && (
          <button type="button" className="btn-bare" onClick={() => setAgain(true)}>
            Send again…
          </button>
        )}
        {again && (
          <SendAgain
            of={narrowed({ flow, state, reference, filter: words, from, to })}
            onClose={() => setAgain(false)}
          />
        )}
      </div>
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
        onPointerEnter={() => {
          setOver(true);
          // What is on its way does not come under the pointer either.
          if (list.data && !list.isFetchingNextPage) client.cancelQueries({ queryKey: key });
        }}
        onPointerLeave={() => setOver(false)}
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
                aria-selected={t.id === chosen}
                data-reference={t.reference}
                className={`absolute grid w-full cursor-pointer items-center border-b border-line px-3 hover:bg-mark ${t.id === chosen ? "bg-mark" : "bg-sheet"}`}
                style={{ gridTemplateColumns: columns, height: 31, transform: `translateY(${v.start}px)` }}
                onClick={() => go(journeys ? `/journeys/${t.id}` : `/transactions/${t.id}`)}
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

/** What is said of a list, without what is not. */
const narrowed = (of: Narrowed): Narrowed => Object.fromEntries(Object.entries(of).filter(([, v]) => v));

export function upcoming(at: string, now: number): string {
  const left = new Date(at).getTime() - now;
  return left <= 0 ? "now" : `in ${span(left)}`;
}

function where(t: Transaction): string {
  if (t.state === "turned away") return t.reason ?? "";
  if (t.state === "delivered") return t.done;
  return t.reason ? `${t.placeText}: ${t.reason}` : t.placeText;
}
