import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { enc, get, type Rehearsal, type Transaction, type TransactionWhole } from "../api/client";
import type { Column } from "../sheet/sheet";
import { Mark } from "../ui/marks";
import { number } from "../ui/time";

/** How many parts are columns at once. */
const shown = 5;

/** Some parts of a transaction as columns of its sheet, a page at a time. */
export function useParts(
  id: string,
  count: number,
  state: string,
): { columns: Column<Rehearsal>[]; places: string[]; more: React.ReactNode } {
  const [before, setBefore] = useState<{ state: string; ends: string[] }>({ state, ends: [] });
  const ends = before.state === state ? before.ends : [];
  const after = ends.at(-1);
  const parts = useQuery({
    queryKey: ["transactions", "parts", id, state, after],
    enabled: count > 0,
    placeholderData: keepPreviousData,
    queryFn: () =>
      get<Transaction[]>(
        `/api/v1/transactions?parent=${id}&limit=${shown}${state && `&state=${enc(state)}`}${after ? `&after=${after}` : ""}`,
      ),
  });
  const list = count > 0 ? (parts.data ?? []) : [];
  const traces = useQueries({
    queries: list.map((p) => ({
      queryKey: ["transactions", p.id, "rehearsal"],
      queryFn: () => get<Rehearsal>(`/api/v1/transactions/${p.id}/rehearsal`),
    })),
  });
  const go = (next: string[]) => setBefore({ state, ends: next });
  return {
    columns: list.map((p, i) => ({
      key: p.id,
      title: (
        <Link tabIndex={-1} className="hover:underline" to={`/transactions/${p.id}`}>
          {p.part?.split.replace(/.*\//, "")} {(p.part?.index ?? 0) + 1}
        </Link>
      ),
      sub: (
        <span className="inline-flex items-center gap-1">
          <Mark state={p.state} size={9} /> {p.state}
        </span>
      ),
      rehearsal: traces[i]?.data,
    })),
    places: list.map((p) => `${p.part?.split}[${p.part?.index}]`),
    more: count > shown && (
      <span className="flex gap-2">
        <button
          type="button"
          className="btn-bare"
          aria-label="Earlier parts"
          disabled={!ends.length}
          onClick={() => go(ends.slice(0, -1))}
        >
          ‹
        </button>
        <button
          type="button"
          className="btn-bare"
          aria-label="Later parts"
          disabled={list.length < shown}
          onClick={() => go([...ends, list.at(-1)?.id ?? ""])}
        >
          ›
        </button>
      </span>
    ),
  };
}

/** How far the parts of a transaction are, and which of them to show. */
export function Progress({
  tx,
  chosen,
  onChoose,
}: {
  tx: TransactionWhole;
  chosen: string;
  onChoose: (state: string) => void;
}) {
  const sum = (of: (p: TransactionWhole["progress"][number]) => number) => tx.progress.reduce((n, p) => n + of(p), 0);
  const total = sum((p) => p.total);
  const counts: [string, number][] = [
    ["dead letter", sum((p) => p.deadLetters)],
    ["waiting", sum((p) => p.waiting)],
    ["under way", sum((p) => p.underWay)],
    ["turned away", sum((p) => p.turnedAway)],
    ["delivered", sum((p) => p.delivered)],
  ];
  const unbegun = total - sum((p) => p.begun);
  const ended = sum((p) => p.delivered + p.turnedAway);
  return (
    <div
      className="flex shrink-0 flex-wrap items-center gap-x-5 gap-y-1 border-b border-line bg-sheet px-4 py-1.5"
      data-testid="progress"
    >
      <button
        type="button"
        className={`btn-bare ${chosen ? "" : "underline"}`}
        aria-pressed={!chosen}
        onClick={() => onChoose("")}
      >
        {number(total)} {total === 1 ? "part" : "parts"}
      </button>
      <progress className="h-1.5 w-40 accent-done" max={total} value={ended} aria-label="Parts that have ended" />
      {counts
        .filter(([, n]) => n > 0)
        .map(([state, n]) => (
          <button
            key={state}
            type="button"
            className={`btn-bare inline-flex items-center gap-1.5 ${chosen === state ? "underline" : ""}`}
            aria-pressed={chosen === state}
            onClick={() => onChoose(chosen === state ? "" : state)}
          >
            <Mark state={state} size={11} /> {number(n)} {state}
          </button>
        ))}
      {unbegun > 0 && (
        <span className="text-quiet">
          {number(unbegun)} not begun
          {tx.progress.some((p) => p.stopped) && ": they wait until the dead letter is decided"}
        </span>
      )}
    </div>
  );
}
