import { type ReactNode, useEffect, useRef, useState } from "react";
import { call, enc, get, type Schemas } from "../api/client";
import type { Row } from "../model/model";
import { Mark } from "../ui/marks";
import { Trouble } from "../ui/parts";
import { number, span } from "../ui/time";
import type { Followed } from "./draft";
import { HandedOver } from "./handed-over";
import { type Pair, StepsSideBySide, samplesThatDiffer } from "./side-by-side";

type Comparison = Schemas["Comparison"];
const shownAtOnce = 6;
const choices = [100, 1000, 5000, 20_000, 100_000];

/** Walks real messages through the draft, and lists those that would go another way. */
export function useTraffic(name: string, live: number) {
  const [now, setNow] = useState<Comparison>();
  const [error, setError] = useState<unknown>();
  const asked = useRef(0);
  const at = `/api/v1/flows/${enc(name)}/comparisons`;
  const begin = async (of: { last: number; from?: string; to?: string }) => {
    const mine = ++asked.current;
    setError(undefined);
    try {
      let c = (await call<Comparison>(at, { body: of })).value;
      while (asked.current === mine) {
        setNow(c);
        if (c.state !== "running") return;
        await new Promise((r) => setTimeout(r, 250));
        c = await get<Comparison>(`${at}/${c.id}`);
      }
    } catch (e) {
      if (asked.current === mine) setError(e);
    }
  };
  const stop = () => now && call(`${at}/${now.id}`, { method: "DELETE" }).catch(setError);
  // biome-ignore lint/correctness/useExhaustiveDependencies: it begins once, for the flow that is shown
  useEffect(() => {
    if (live) void begin({ last: 1000 });
    return () => {
      asked.current++;
    };
  }, [name, live]);
  return { now, error, begin, stop };
}

/** The real messages that the draft makes something else of, by what that is. */
export function Traffic({
  name,
  rows,
  live,
  before,
  after,
}: {
  name: string;
  rows: Row[];
  live: number;
  /** The samples under the live version and under the draft. */
  before: Followed[] | undefined;
  after: Followed[];
}) {
  const { now, error, begin, stop } = useTraffic(name, live);
  const [last, setLast] = useState(1000);
  const [from, setFrom] = useState("");
  const [to, setTo] = useState("");
  const [group, setGroup] = useState<number>(); // -1: the samples
  const samples = before && samplesThatDiffer(rows, before, after);
  const running = now?.state === "running";
  const again = (l: number, f: string, t: string) => {
    setGroup(undefined);
    const iso = (v: string) => (v ? new Date(v).toISOString() : undefined);
    void begin({ last: l, from: iso(f), to: iso(t) });
  };
  const chosen = group === -1 ? undefined : (now?.groups.find((g) => g.n === group) ?? now?.groups[0]);
  return (
    <section className="flex min-h-0 min-w-0 flex-col" data-testid="traffic" aria-label="Real messages">
      <div className="pane-head flex flex-wrap items-baseline gap-x-4 bg-paper">
        <h2>Real messages, walked through the draft</h2>
        <span className="font-normal text-quiet" role="status">
          {now && (running ? `${number(now.done)} of ${number(now.total)}` : wordsOf(now))}
        </span>
        <span className="ml-auto font-normal">
          {running ? (
            <button type="button" className="btn-bare" onClick={() => void stop()}>
              Stop
            </button>
          ) : (
            now && <span className="text-quiet">{`${now.state} in ${span(now.took)}`}</span>
          )}
        </span>
      </div>
      {running && (
        <div
          role="progressbar"
          aria-label="Messages walked"
          aria-valuemin={0}
          aria-valuemax={now.total}
          aria-valuenow={now.done}
          className="h-1 shrink-0 bg-line"
        >
          <div className="h-full bg-deep" style={{ width: `${(100 * now.done) / Math.max(1, now.total)}%` }} />
        </div>
      )}
      <div className="flex flex-wrap items-center gap-2 border-b border-line px-4 py-1.5 text-quiet">
        <label className="flex items-center gap-1.5">
          the last
          <select
            aria-label="How many messages"
            className="field !w-auto"
            value={last}
            onChange={(e) => {
              setLast(Number(e.target.value));
              again(Number(e.target.value), from, to);
            }}
          >
            {choices.map((n) => (
              <option key={n} value={n}>
                {number(n)}
              </option>
            ))}
          </select>
        </label>
        <When label="from" value={from} onChange={setFrom} onDone={(v) => again(last, v, to)} />
        <When label="to" value={to} onChange={setTo} onDone={(v) => again(last, from, v)} />
      </div>
      {error !== undefined && <Trouble error={error} />}
      {now?.error && <p className="px-4 py-2 text-dead">{now.error}</p>}
      {now && now.total === 0 && !running && <p className="px-4 py-3 text-quiet">No message has come in that time.</p>}
      <ul className="max-h-[38%] shrink-0 overflow-auto border-b border-line" aria-label="What would be otherwise">
        {now?.groups.map((g) => (
          <Choice key={g.n} count={g.count} dead={g.dead} on={g.n === chosen?.n} onChoose={() => setGroup(g.n)}>
            <span className={`min-w-0 flex-1 ${g.dead ? "text-dead" : ""}`}>
              {g.dead && <Mark state="dead letter" size={9} />} {g.text}
            </span>
            {g.common && <span className="max-w-[40%] text-quiet">{g.common}</span>}
          </Choice>
        ))}
        {samples && samples.length > 0 && (
          <Choice count={samples.length} on={!chosen} onChoose={() => setGroup(-1)}>
            <span className="flex-1">{`of ${after.length} samples go another way than under version ${live}`}</span>
          </Choice>
        )}
        {samples?.length === 0 && <li className="px-4 py-1.5 text-quiet">All samples go as they did.</li>}
      </ul>
      {!chosen && samples && samples.length > 0 && (
        <div className="min-h-0 flex-1 overflow-auto" data-testid="compared">
          <StepsSideBySide rows={rows} pairs={samples} />
        </div>
      )}
      {now && chosen && !running && (
        <Group key={`${now.id} ${chosen.n}`} name={name} id={now.id} rows={rows} group={chosen} />
      )}
    </section>
  );
}

/** A line of the list: how many, and what of them. */
function Choice(p: { count: number; dead?: boolean; on: boolean; onChoose: () => void; children: ReactNode }) {
  return (
    <li>
      <button
        type="button"
        aria-pressed={p.on}
        className={`flex w-full items-baseline gap-3 border-l-[3px] px-4 py-1.5 text-left ${p.on ? "border-buoy bg-mark" : "border-transparent"}`}
        onClick={p.onChoose}
      >
        <b className={`w-12 shrink-0 text-right ${p.dead ? "text-dead" : ""}`}>{number(p.count)}</b>
        {p.children}
      </button>
    </li>
  );
}

/** A moment, which counts when it is left or entered. */
function When(p: { label: string; value: string; onChange: (v: string) => void; onDone: (v: string) => void }) {
  const done = useRef(p.value);
  const end = (v: string) => {
    if (v === done.current) return;
    done.current = v;
    p.onDone(v);
  };
  return (
    <label className="flex items-center gap-1.5">
      {p.label}
      <input
        type="datetime-local"
        aria-label={p.label === "from" ? "Messages from" : "Messages up to"}
        className="field !w-auto"
        value={p.value}
        onChange={(e) => p.onChange(e.target.value)}
        onBlur={(e) => end(e.target.value)}
        onKeyDown={(e) => e.key === "Enter" && end(e.currentTarget.value)}
      />
    </label>
  );
}

function wordsOf(c: Comparison): string {
  const out = [`${number(c.same)} end as they did`, c.other ? `${number(c.other)} do not` : ""];
  if (c.leftOut) out.push(`${number(c.leftOut)} left out (${c.why})`);
  return [...out.filter(Boolean), "nothing has left"].join(" · ");
}

type Side = { was: Schemas["Rehearsal"]; is: Schemas["Rehearsal"]; differences: Schemas["Difference"][] };

/** Some messages of a group, as they went and as they would go. */
function Group(p: { name: string; id: string; rows: Row[]; group: Comparison["groups"][number] }) {
  const [from, setFrom] = useState(0);
  const [pairs, setPairs] = useState<(Pair & { side: Side })[]>();
  const [error, setError] = useState<unknown>();
  const [focus, setFocus] = useState(0);
  const at = `/api/v1/flows/${enc(p.name)}/comparisons/${p.id}/messages`;
  useEffect(() => {
    let over = false;
    const read = async () => {
      const list = await get<{ transaction: string; reference: string }[]>(
        `${at}?group=${p.group.n}&from=${from}&limit=${shownAtOnce}`,
      );
      const out = await Promise.all(
        list.map(async (m) => {
          const side = await get<Side>(`${at}/${m.transaction}`);
          return {
            name: m.reference || m.transaction.slice(0, 8),
            link: `/transactions/${m.transaction}`,
            was: side.was,
            is: side.is,
            side,
          };
        }),
      );
      if (over) return;
      setPairs(out);
      setFocus(0);
    };
    read().catch((e) => !over && setError(e));
    return () => {
      over = true;
    };
  }, [at, from, p.group.n]);
  if (error) return <Trouble error={error} />;
  const one = pairs?.[focus];
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <div className="pane-head flex items-baseline gap-4 bg-paper">
        <h3 className="font-bold">{number(p.group.count)} side by side</h3>
        <span className="font-normal text-quiet">as they went, as they would go</span>
        {p.group.count > shownAtOnce && (
          <span className="ml-auto font-normal">
            {`${number(from + 1)} to ${number(Math.min(from + shownAtOnce, p.group.count))} `}
            <button
              type="button"
              className="btn-bare"
              disabled={from === 0}
              onClick={() => setFrom(from - shownAtOnce)}
            >
              earlier
            </button>{" "}
            <button
              type="button"
              className="btn-bare"
              disabled={from + shownAtOnce >= p.group.count}
              onClick={() => setFrom(from + shownAtOnce)}
            >
              later
            </button>
          </span>
        )}
      </div>
      <div className="min-h-24 flex-1 overflow-auto">
        {pairs && <StepsSideBySide rows={p.rows} pairs={pairs} focus={focus} onFocus={setFocus} />}
      </div>
      {one && <HandedOver name={one.name} was={one.side.was} is={one.side.is} differences={one.side.differences} />}
    </div>
  );
}
