import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { call, enc, get, type QueueMessage } from "../api/client";
import { queryClient } from "../api/queries";
import { CameWith } from "../sheet/shown";
import { Document } from "../ui/document";
import { Dialog, Select, Setting, says, Text } from "../ui/parts";
import { number, Time } from "../ui/time";
import { StoredRow } from "./stored";

/** The messages of a queue as they will be taken, looked at without taking them. */
export function InsideQueue({ queue, free, others }: { queue: string; free: number; others: string[] }) {
  const [limit, setLimit] = useState(50);
  const [chosen, setChosen] = useState<number[]>([]);
  const [doing, setDoing] = useState<"move" | "purge" | null>(null);
  const messages = useQuery({
    queryKey: ["queues", queue, "messages", limit],
    placeholderData: (old: QueueMessage[] | undefined) => old,
    queryFn: () => get<QueueMessage[]>(`/api/v1/queues/${enc(queue)}/messages?limit=${limit}`),
  });
  const here = messages.data?.filter((m) => !m.takenBy && chosen.includes(m.n)) ?? [];
  const count = here.length || free;
  const what = here.length ? `${here.length} chosen` : free ? `all ${number(free)}` : "all";
  return (
    <section aria-label={`Messages of ${queue}`} className="flex h-[46%] shrink-0 flex-col border-t-2 border-deep">
      <h2 className="pane-head flex items-center gap-3">
        {queue} <span className="font-normal text-quiet">as they will be taken, looked at without taking them</span>
        <span className="flex-1" />
        <button
          type="button"
          className="btn"
          disabled={!count || !others.length}
          title={others.length ? undefined : "no other queue has a reader"}
          onClick={() => setDoing("move")}
        >
          Move {what}…
        </button>
        <button type="button" className="btn" disabled={!count} onClick={() => setDoing("purge")}>
          Purge {what}…
        </button>
      </h2>
      <div className="min-h-0 flex-1 overflow-auto bg-sheet">
        {messages.data?.length === 0 && <p className="p-3 text-quiet">The queue is empty.</p>}
        {messages.data?.map((m) => (
          <StoredRow
            key={m.n}
            n={m.n}
            reference={m.reference}
            at={m.putAt}
            choose={
              <input
                type="checkbox"
                className="mt-2.5 ml-3"
                aria-label={`Choose message ${m.n}`}
                disabled={!!m.takenBy}
                checked={!m.takenBy && chosen.includes(m.n)}
                onChange={(e) => setChosen(e.target.checked ? [...chosen, m.n] : chosen.filter((n) => n !== m.n))}
              />
            }
            facts={
              <>
                <span className="text-quiet">priority {m.priority}</span>
                {m.expiresAt && !m.takenBy && (
                  <span className="text-wait">
                    expires <Time at={m.expiresAt} />
                  </span>
                )}
                {m.tries > 0 && (
                  <span className="text-wait">
                    {m.tries} {m.tries === 1 ? "try" : "tries"}
                    {m.nextTryAt && (
                      <>
                        , next <Time at={m.nextTryAt} />
                      </>
                    )}
                  </span>
                )}
                <span className="text-quiet">
                  {m.leasedBy ? `${m.leasedBy} has it` : m.takenBy ? "in flight" : "free"}
                </span>
              </>
            }
            link={
              m.takenBy && !m.leasedBy
                ? { text: "its transaction", transaction: m.takenBy }
                : { text: m.from ? "where it came from" : "from outside", transaction: m.from }
            }
          >
            <CameWith headers={m.headers} />
            <Document body={m.body} />
          </StoredRow>
        ))}
        {messages.data?.length === limit && limit < 500 && (
          <button type="button" className="btn-bare p-3" onClick={() => setLimit(Math.min(500, limit * 2))}>
            show more
          </button>
        )}
      </div>
      {doing && (
        <Decide
          queue={queue}
          doing={doing}
          chosen={here}
          count={count}
          others={others}
          onClose={() => {
            setDoing(null);
            setChosen([]);
          }}
        />
      )}
    </section>
  );
}

/** Asks before messages are moved or purged, and names what is lost. */
function Decide(p: {
  queue: string;
  doing: "move" | "purge";
  chosen: QueueMessage[];
  count: number;
  others: string[];
  onClose: () => void;
}) {
  const [to, setTo] = useState(p.others[0] ?? "");
  const [why, setWhy] = useState("");
  const [bad, setBad] = useState<string>();
  const [stop, setStop] = useState<AbortController | null>(null);
  const messages = `${number(p.count)} ${p.count === 1 ? "message" : "messages"}`;
  const names = p.chosen.map((m) => m.reference || `number ${m.n}`);
  const go = async () => {
    const abort = new AbortController();
    setStop(abort);
    setBad(undefined);
    try {
      const which = p.chosen.length ? { messages: p.chosen.map((m) => m.n) } : { all: true };
      const { value } = await call<{ count: number }>(`/api/v1/queues/${enc(p.queue)}/${p.doing}`, {
        body: p.doing === "move" ? { ...which, to } : { ...which, why },
        signal: abort.signal,
      });
      const some = `${number(value.count)} ${value.count === 1 ? "message" : "messages"}`;
      toast.success(p.doing === "move" ? `${some} moved to ${to}` : `${some} purged`);
      p.onClose();
    } catch (e) {
      setBad(abort.signal.aborted ? "It was stopped; what was done until then stays done." : says(e));
    }
    setStop(null);
    await queryClient.invalidateQueries({ queryKey: ["queues"] });
  };
  return (
    <Dialog open onClose={p.onClose} title={`${p.doing === "move" ? "Move" : "Purge"} ${messages}`}>
      {p.doing === "move" ? (
        <Setting label="To the queue" error={bad}>
          <Select label="To the queue" value={to} onChange={setTo} options={p.others} />
        </Setting>
      ) : (
        <>
          <p className="mb-2">
            {names.length
              ? `${names.length === 1 ? "This message" : "These messages"} will not be worked on: ${names.slice(0, 8).join(", ")}${names.length > 8 ? " and others" : ""}.`
              : `All ${messages} that nobody works on yet will not be worked on.`}{" "}
            Each stays in the journal as turned away, and this cannot be undone.
          </p>
          <Setting label="Why" error={bad}>
            <Text label="Why" value={why} onChange={setWhy} placeholder="for those who ask later" />
          </Setting>
        </>
      )}
      {stop ? (
        <button type="button" className="btn" onClick={() => stop.abort()}>
          Stop
        </button>
      ) : (
        <button type="button" className="btn btn-go" onClick={go}>
          {p.doing === "move" ? "Move" : "Purge"}
        </button>
      )}
    </Dialog>
  );
}
