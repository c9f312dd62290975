import { useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import { enc, get, type Schemas } from "../api/client";
import { listen } from "../api/live";
import { useFlows } from "../api/queries";
import { useAddress } from "../ui/address";
import { firstOf, useEndless } from "../ui/endless";
import { Mark } from "../ui/marks";
import { Empty, PageHead, Select, Text, Trouble } from "../ui/parts";
import { useRested } from "../ui/settled";
import { Time } from "../ui/time";

type Page = Schemas["LogPage"];
type Line = Schemas["LogLine"];
const kinds: [Line["what"], string][] = [
  ["end", "ends"],
  ["death", "dead letters"],
  ["failed", "failed tries"],
  ["note", "notes"],
];
const columns = "190px 110px minmax(120px,0.8fr) minmax(140px,1fr) minmax(240px,3fr)";
const atOnce = 100;

/** What happened in all flows, line by line, the newest first; held as soon as somebody reads it. */
export function LogPage() {
  const [search, setSearch] = useAddress();
  const flow = search.get("flow") ?? "";
  const [what, setWhat] = useState(search.get("what") ?? ""); // at once; the address follows
  const [words, setWords] = useState(search.get("words") ?? "");
  const settled = useRested(words);
  const set = (part: Record<string, string>) => {
    const next = new URLSearchParams(window.location.search); // what was set a moment ago is in it
    for (const [k, v] of Object.entries(part)) v ? next.set(k, v) : next.delete(k);
    setSearch(next, { replace: true });
  };
  const flows = useFlows();
  const client = useQueryClient();
  const [held, setHeld] = useState(false);
  const [over, setOver] = useState(false);
  const [newer, setNewer] = useState(false);
  const scroller = useRef<HTMLDivElement>(null);
  const filter = `flow=${enc(flow)}&what=${what}&words=${enc(settled)}`;
  const key = useMemo(() => ["log-lines", filter], [filter]);
  const log = useInfiniteQuery({
    queryKey: key,
    initialPageParam: 0,
    queryFn: ({ pageParam, signal }) =>
      get<Page>(`/api/v1/log?${filter}&limit=${atOnce}${pageParam ? `&before=${pageParam}` : ""}`, signal),
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: (was) => was,
  });
  const lines = useMemo(() => log.data?.pages.flatMap((p) => p.lines) ?? [], [log.data]);
  const newest = lines[0]?.n ?? 0;

  const refresh = useCallback(() => {
    setNewer(false);
    scroller.current?.scrollTo({ top: 0 });
    client.setQueryData(key, firstOf<NonNullable<typeof log.data>["pages"][number], unknown>);
    client.invalidateQueries({ queryKey: key });
  }, [client, key]);

  // What somebody reads does not move: what is newer waits until it is asked for.
  useEffect(() => {
    const look = async () => {
      const top = (scroller.current?.scrollTop ?? 0) < 8;
      if (top && !held && !over && !scroller.current?.contains(document.activeElement)) {
        client.invalidateQueries({ queryKey: key });
        return;
      }
      const fresh = await get<Page>(`/api/v1/log?${filter}&limit=1`).catch(() => null);
      setNewer((fresh?.lines[0]?.n ?? 0) > newest);
    };
    return listen((word) => {
      if ("open" in word || word.changed.includes("transactions") || word.changed.includes("dead-letters")) void look();
    });
  }, [client, key, filter, held, over, newest]);

  const { virtual, items } = useEndless(lines.length, 29, scroller, log);

  return (
    <>
      <PageHead
        title="Log"
        facts={
          <div className="flex flex-wrap items-center gap-2">
            <div className="w-44">
              <Select
                label="Flow"
                value={flow}
                onChange={(v) => set({ flow: v })}
                options={[["", "every flow"], ...(flows.data ?? []).map((f): [string, string] => [f.name, f.title])]}
              />
            </div>
            <div className="w-60">
              <Text
                label="Words"
                placeholder="words that stand in a line"
                value={words}
                onChange={(v) => {
                  setWords(v);
                  set({ words: v });
                }}
              />
            </div>
            {kinds.map(([k, title]) => {
              const chosen = what === "" || what.split(",").includes(k);
              return (
                <label key={k} className="flex items-center gap-1">
                  <input
                    type="checkbox"
                    checked={chosen}
                    onChange={() => {
                      const all = kinds.map(([name]) => name);
                      const now = what === "" ? all : all.filter((n) => what.split(",").includes(n));
                      const next = chosen ? now.filter((n) => n !== k) : [...now, k];
                      if (!next.length) return;
                      const kept = next.length === all.length ? "" : next.join(",");
                      setWhat(kept);
                      set({ what: kept });
                    }}
                  />
                  {title}
                </label>
              );
            })}
          </div>
        }
      >
        {newer && (
          <button type="button" className="btn-bare" onClick={refresh}>
            newer lines, show
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
        <Link className="btn" to="/transactions">
          Transactions
        </Link>
      </PageHead>
      {log.error && <Trouble error={log.error} />}
      <div className="head grid border-b border-line px-3 py-1.5" style={{ gridTemplateColumns: columns }}>
        <span>When</span>
        <span>What</span>
        <span>Flow</span>
        <span>Reference</span>
        <span>Says</span>
      </div>
      <section
        ref={scroller}
        aria-label="Log"
        className="min-h-0 flex-1 overflow-auto"
        onPointerEnter={() => setOver(true)}
        onPointerLeave={() => setOver(false)}
      >
        {log.data && lines.length === 0 && (
          <Empty title="Nothing to tell">
            The log has the last twenty thousand ends, failed tries and dead letters. Change what stands above, or wait.
          </Empty>
        )}
        <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
          {items.map((v) => {
            const l = lines[v.index];
            if (!l) return null;
            return (
              <Link
                key={`${l.n} ${l.what} ${v.index}`}
                to={`/transactions/${l.transaction}`}
                data-testid="log-line"
                className="absolute grid w-full items-center border-b border-line bg-sheet px-3 hover:bg-mark"
                style={{ gridTemplateColumns: columns, height: 29, transform: `translateY(${v.start}px)` }}
              >
                <span className="text-quiet">
                  <Time at={l.at} withDate />
                </span>
                <span className="flex items-center gap-1.5">
                  {l.what === "end" || l.what === "death" ? <Mark state={l.state} /> : null}
                  {l.what === "failed" ? "try failed" : l.what === "note" ? "note" : l.state}
                </span>
                <span className="truncate">
                  {l.flow}
                  {l.step && <span className="text-quiet"> {l.step}</span>}
                </span>
                <span className="data truncate">{l.reference || l.transaction.slice(0, 13)}</span>
                <span className="truncate" title={l.text}>
                  {l.text}
                </span>
              </Link>
            );
          })}
        </div>
      </section>
    </>
  );
}
