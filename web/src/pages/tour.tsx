import { useEffect, useState } from "react";
import { useLocation } from "react-router";
import { get, type Transaction } from "../api/client";

type Seen = { path: string; began: string };

/** A stop of the tour: what to do, and how it is seen that it was done. */
type Stop = { text: string; done: (seen: Seen) => boolean | Promise<boolean> };

const has = (selector: string) => document.querySelector(selector) !== null;
const says = (selector: string, text: RegExp) => text.test(document.querySelector(selector)?.textContent ?? "");
const flowOf = (path: string) => /^\/flows\/([^/]+)/.exec(path)?.[1];
/** The last message of one flow: those of others come meanwhile, and are nothing that was done on the tour. */
const latest = async (flow: string) =>
  (await get<Transaction[]>(`/api/v1/transactions?flow=${flow}&limit=1`)).at(0)?.receivedAt ?? "";

/** Each is told by what is on the page, or at the server; nothing has to be clicked away. */
const stops: Stop[] = [
  {
    text: "On Flows, start a flow with “Send each message where its content says”. It comes with samples, each a column.",
    done: ({ path }) => flowOf(path) !== undefined && has('[data-testid=sheet] [data-path="which"]'),
  },
  {
    text: "A row is a step, a cell what it did to that message. Look at another cell: with the arrows, or a click.",
    done: () => has("[role=grid][aria-activedescendant]") && !has("[role=grid][aria-activedescendant=cell-0-0]"),
  },
  {
    text: "Open the sample “urgent” by its name, and pin its outcome with “Expect this”.",
    done: () => says("main header", /All \d+ as expected|\d+ not as expected/),
  },
  {
    text: "Choose the row “urgent” of the route, and let it be taken when something else holds. The sheet shows at once what breaks.",
    done: () => says("main header", /\d+ not as expected/),
  },
  { text: "Take that back: Ctrl Z, or the arrow above.", done: () => says("main header", /All \d+ as expected/) },
  {
    text: "Press a, and type what a step should do, such as “wait 1 minute”. Add it, or go back with Escape.",
    done: () => has("[cmdk-list]"),
  },
  {
    text: "Publish. The page shows what changes and what it was checked against; make it version 1.",
    done: ({ path }) => flowOf(path) !== undefined && says("[data-testid=flow-status]", /version \d/),
  },
  {
    text: "Send a sample for real: choose the first row, and “send it” above the message on the left.",
    done: async ({ path, began }) => {
      const flow = flowOf(path);
      return flow !== undefined && (await latest(flow)) > began;
    },
  },
  {
    text: "Under Transactions, open the one that has just come: the same sheet, with what really happened.",
    done: ({ path }) => /^\/transactions\/.+/.test(path),
  },
  {
    text: "On the flow's sheet, under More, see what callers get to read: the page For callers.",
    done: ({ path }) => /\/callers$/.test(path),
  },
];

type State = { at: number; began: string };
const key = "tour";
const read = (): State | null => {
  try {
    return JSON.parse(localStorage.getItem(key) ?? "null") as State | null;
  } catch {
    return null;
  }
};

/** Begins the tour, or begins it again. */
export function beginTour() {
  localStorage.setItem(key, JSON.stringify({ at: 0, began: new Date().toISOString() }));
  window.dispatchEvent(new Event("tour"));
}

/** A tour that watches what a person does, and goes on by itself. */
export function Tour() {
  const { pathname } = useLocation();
  const [state, setState] = useState(read);
  const keep = (next: State | null) => {
    if (next) localStorage.setItem(key, JSON.stringify(next));
    else localStorage.removeItem(key);
    setState(next);
  };
  useEffect(() => {
    const again = () => setState(read());
    window.addEventListener("tour", again);
    return () => window.removeEventListener("tour", again);
  }, []);
  useEffect(() => {
    const stop = state && stops[state.at];
    if (!stop) return;
    let over = false;
    const look = async () => {
      const done = await Promise.resolve(stop.done({ path: pathname, began: state.began })).catch(() => false);
      if (!done || over) return;
      const next = { ...state, at: state.at + 1 };
      localStorage.setItem(key, JSON.stringify(next));
      setState(next);
    };
    const timer = setInterval(look, 400);
    return () => {
      over = true;
      clearInterval(timer);
    };
  }, [state, pathname]);
  if (!state) return null;
  const stop = stops[state.at];
  return (
    <aside
      aria-label="Tour"
      className="fixed bottom-3 left-3 z-50 w-[360px] border border-line border-l-4 border-l-buoy bg-sheet px-3 py-2"
    >
      <p aria-live="polite">
        {stop ? (
          <>
            <b>{`${state.at + 1} of ${stops.length}. `}</b>
            {stop.text}
          </>
        ) : (
          "That was all: a flow was started, proven, published, called and looked at. The rest is on Help."
        )}
      </p>
      <p className="mt-1 flex gap-3">
        {stop && (
          <button type="button" className="btn-bare" onClick={() => keep({ ...state, at: state.at + 1 })}>
            go on without it
          </button>
        )}
        <button type="button" className="btn-bare" onClick={() => keep(null)}>
          {stop ? "end the tour" : "close"}
        </button>
      </p>
    </aside>
  );
}
