import { useQuery } from "@tanstack/react-query";
import { useNavigate, useSearchParams } from "react-router";
import { enc, get, type QueueMessage } from "../api/client";
import { useFlows, useQueues } from "../api/queries";
import { Document } from "../ui/document";
import { Empty, PageHead, Trouble } from "../ui/parts";
import { number, span, Time, useNow } from "../ui/time";

export default function QueuesPage() {
  const queues = useQueues();
  const flows = useFlows();
  const [search, setSearch] = useSearchParams();
  const open = search.get("open") ?? "";
  const now = useNow();
  const go = useNavigate();
  const title = (name: string) => flows.data?.find((f) => f.name === name)?.title ?? name;
  return (
    <>
      <PageHead title="Queues" facts="inside the application, each message to one reader" />
      {queues.error && <Trouble error={queues.error} />}
      <div className="min-h-0 flex-1 overflow-auto">
        {queues.data?.length === 0 ? (
          <Empty title="No queue yet">
            <p>
              A queue is there as soon as a published flow reads it: start a flow whose messages come in by a queue, and
              let another one deliver to it.
            </p>
          </Empty>
        ) : (
          <table className="grid-table">
            <thead>
              <tr>
                <th>Queue</th>
                <th>Read by</th>
                <th className="!text-right">Depth</th>
                <th className="!text-right">In flight</th>
                <th className="!text-right">Oldest waits</th>
                <th />
              </tr>
            </thead>
            <tbody>
              {queues.data?.map((q) => (
                <tr key={q.name} aria-selected={q.name === open} data-queue={q.name}>
                  <td className="data !font-bold">{q.name}</td>
                  <td>
                    {q.readers.length === 0 ? (
                      <b className="text-dead">nobody</b>
                    ) : (
                      q.readers.map((r) => (
                        <button key={r} type="button" className="btn-bare mr-3" onClick={() => go(`/flows/${r}`)}>
                          {title(r)}
                        </button>
                      ))
                    )}
                  </td>
                  <td className="text-right font-semibold">{number(q.depth)}</td>
                  <td className="text-right">{number(q.inFlight)}</td>
                  <td className="text-right">
                    {q.oldestAt ? (
                      <span title={q.oldestAt}>{span(now - new Date(q.oldestAt).getTime())}</span>
                    ) : (
                      <span className="text-quiet">nothing waits</span>
                    )}
                  </td>
                  <td className="text-right">
                    <button
                      type="button"
                      className="btn-bare"
                      onClick={() => setSearch(q.name === open ? {} : { open: q.name })}
                    >
                      {q.name === open ? "close" : "look inside"}
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
      {open && <Inside key={open} queue={open} />}
    </>
  );
}

/** The first messages of a queue, without taking them. */
function Inside({ queue }: { queue: string }) {
  const go = useNavigate();
  const messages = useQuery({
    queryKey: ["queues", queue, "messages"],
    queryFn: () => get<QueueMessage[]>(`/api/v1/queues/${enc(queue)}/messages?limit=50`),
  });
  return (
    <section aria-label={`Messages of ${queue}`} className="flex h-[46%] shrink-0 flex-col border-t-2 border-deep">
      <h2 className="pane-head">
        {queue} <span className="font-normal text-quiet">its first messages, looked at without taking them</span>
      </h2>
      <div className="min-h-0 flex-1 overflow-auto bg-sheet">
        {messages.data?.length === 0 && <p className="p-3 text-quiet">The queue is empty.</p>}
        {messages.data?.map((m) => (
          <details key={m.n} className="border-b border-line">
            <summary className="flex cursor-pointer gap-4 px-3 py-1.5">
              <span className="w-14 text-quiet">{m.n}</span>
              <b className="data w-32">{m.reference}</b>
              <Time at={m.putAt} />
              <span className="text-quiet">{m.takenBy ? "in flight" : "free"}</span>
              <button type="button" className="btn-bare" onClick={() => go(`/transactions/${m.takenBy ?? m.from}`)}>
                {m.takenBy ? "its transaction" : "where it came from"}
              </button>
            </summary>
            <Document body={{ ...m.body, format: "json" }} />
          </details>
        ))}
      </div>
    </section>
  );
}
