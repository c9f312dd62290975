import { useState } from "react";
import { useNavigate } from "react-router";
import { toast } from "sonner";
import { call, enc, type Queue } from "../api/client";
import { queryClient, useFlows, useGroups, useQueues, useTopics } from "../api/queries";
import { useAddress } from "../ui/address";
import { Dialog, Empty, PageHead, Setting, says, Text, Trouble } from "../ui/parts";
import { number, span, Time, useNow } from "../ui/time";
import { GroupTable, InsideGroup } from "./groups";
import { InsideQueue } from "./queue-inside";
import { InsideTopic, TopicTable } from "./topics";

export default function QueuesPage() {
  const queues = useQueues();
  const flows = useFlows();
  const [search, setSearch] = useAddress();
  const open = search.get("open") ?? "";
  const topic = search.get("topic") ?? "";
  const group = search.get("group") ?? "";
  const topics = useTopics();
  const groups = useGroups(100);
  const [limiting, setLimiting] = useState<Queue | null>(null);
  const now = useNow();
  const go = useNavigate();
  const title = (name: string) => flows.data?.find((f) => f.name === name)?.title ?? name;
  const pause = async (q: Queue) => {
    try {
      await call(`/api/v1/queues/${enc(q.name)}/${q.pausedAt ? "resume" : "pause"}`, { method: "POST" });
      await queryClient.invalidateQueries({ queryKey: ["queues"] });
    } catch (e) {
      toast.error(says(e));
    }
  };
  const opened = queues.data?.find((q) => q.name === open);
  return (
    <>
      <PageHead
        title="Queues"
        facts="what waits inside the application: queues, topics with their subscriptions, and open groups"
      />
      {queues.error && <Trouble error={queues.error} />}
      {topics.error && <Trouble error={topics.error} />}
      <div className="min-h-0 flex-1 overflow-auto">
        {queues.data?.length === 0 && topics.data?.length === 0 && groups.data?.total === 0 ? (
          <Empty title="No queue and no topic yet">
            <p>
              A queue is there as soon as a published flow reads it: start a flow whose messages come in by a queue, and
              let another one deliver to it. A topic is there as soon as something is put into it or a flow reads it.
            </p>
          </Empty>
        ) : (
          <>
            <table className="grid-table table-fixed">
              <thead>
                <tr>
                  <th className="w-[23%]">Queue: each message to one reader</th>
                  <th>Read by</th>
                  <th className="w-[6%] !text-right">Depth</th>
                  <th className="w-[6.5%] !text-right">In flight</th>
                  <th className="w-[8.5%] !text-right">Oldest waits</th>
                  <th className="w-[8%] !text-right">In a minute</th>
                  <th className="w-[8.5%] !text-right">Out a minute</th>
                  <th className="w-[15%]" />
                </tr>
              </thead>
              <tbody>
                {queues.data?.map((q) => (
                  <tr key={q.name} aria-selected={q.name === open} data-queue={q.name}>
                    <td className="data !font-bold">
                      {q.name}
                      {q.depth >= q.limit && <span className="ml-2 font-normal text-dead">full</span>}
                      {q.pausedAt && (
                        <span className="ml-2 font-normal text-wait">
                          paused since <Time at={q.pausedAt} />
                        </span>
                      )}
                    </td>
                    <td>
                      {(q.repliesFor ?? []).length > 0 ? (
                        <>
                          replies for{" "}
                          {q.repliesFor?.map((r) => (
                            <button key={r} type="button" className="btn-bare mr-3" onClick={() => go(`/flows/${r}`)}>
                              {title(r)}
                            </button>
                          ))}
                          {q.depth > 0 && <span className="text-wait">what is here came too late, or twice</span>}
                        </>
                      ) : q.readers.length + q.takers.length === 0 ? (
                        <b className="text-dead">nobody</b>
                      ) : (
                        <>
                          {q.readers.map((r) => (
                            <button key={r} type="button" className="btn-bare mr-3" onClick={() => go(`/flows/${r}`)}>
                              {title(r)}
                            </button>
                          ))}
                          {q.takers.length > 0 && <span>outside, by the key {q.takers.join(", ")}</span>}
                        </>
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
                    <td className="text-right">{number(q.inPerMinute)}</td>
                    <td className="text-right">{number(q.outPerMinute)}</td>
                    <td className="text-right">
                      <button type="button" className="btn-bare mr-4" onClick={() => setLimiting(q)}>
                        limit
                      </button>
                      <button type="button" className="btn-bare mr-4" onClick={() => pause(q)}>
                        {q.pausedAt ? "resume" : "pause"}
                      </button>
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
                {queues.data?.length === 0 && (
                  <tr>
                    <td colSpan={8} className="text-quiet">
                      no queue yet
                    </td>
                  </tr>
                )}
              </tbody>
            </table>
            <TopicTable
              topics={topics.data ?? []}
              open={topic}
              onOpen={(t) => setSearch(t ? { topic: t } : {})}
              title={title}
              now={now}
            />
            <GroupTable open={group} onOpen={(g) => setSearch(g ? { group: g } : {})} title={title} now={now} />
          </>
        )}
      </div>
      {limiting && <LimitDialog queue={limiting} onClose={() => setLimiting(null)} />}
      {group && <InsideGroup key={group} id={group} />}
      {topic && <InsideTopic key={topic} topic={topics.data?.find((t) => t.name === topic)} name={topic} />}
      {open && (
        <InsideQueue
          key={open}
          queue={open}
          free={opened?.depth ?? 0}
          others={(queues.data ?? []).filter((q) => q.name !== open && q.readers.length > 0).map((q) => q.name)}
        />
      )}
    </>
  );
}

/** How many messages may wait in a queue. */
function LimitDialog({ queue, onClose }: { queue: Queue; onClose: () => void }) {
  const [limit, setLimit] = useState(String(queue.limit));
  const [bad, setBad] = useState<string>();
  return (
    <Dialog open onClose={onClose} title={`How many messages may wait in ${queue.name}`}>
      <form
        onSubmit={async (e) => {
          e.preventDefault();
          try {
            await call(`/api/v1/queues/${enc(queue.name)}`, { method: "PUT", body: { limit: Number(limit) } });
            await queryClient.invalidateQueries({ queryKey: ["queues"] });
            onClose();
          } catch (e) {
            setBad(says(e));
          }
        }}
      >
        <Setting label="At most" hint="what comes beyond it is a dead letter of the flow that puts it" error={bad}>
          <Text mono type="number" label="At most" value={limit} onChange={setLimit} />
        </Setting>
        <button type="submit" className="btn btn-go">
          Set
        </button>
      </form>
    </Dialog>
  );
}
