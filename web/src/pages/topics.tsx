import { useQuery } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { Link, useNavigate } from "react-router";
import { toast } from "sonner";
import { call, enc, get, type Subscription, type Topic, type TopicMessage } from "../api/client";
import { queryClient } from "../api/queries";
import { CameWith } from "../sheet/shown";
import { Document } from "../ui/document";
import { Dialog, Select, Setting, says, Text } from "../ui/parts";
import { number, size, span, Time } from "../ui/time";
import { StoredRow } from "./stored";

const changed = () => queryClient.invalidateQueries({ queryKey: ["queues"] });

/** How much a topic keeps, in words. */
function keeps(t: Topic): string {
  const bounds = [t.keepFor > 0 && `for ${span(t.keepFor)}`, t.keepBytes > 0 && `up to ${size(t.keepBytes)}`].filter(
    Boolean,
  );
  if (!bounds.length) return "keeps everything";
  return `keeps messages ${bounds.join(" and ")}${t.dropUnread ? ", even what is not read yet goes" : ""}`;
}

/** Topics, each with its subscriptions below it. */
export function TopicTable(p: {
  topics: Topic[];
  open: string;
  onOpen: (topic: string) => void;
  title: (flow: string) => string;
  now: number;
}) {
  const go = useNavigate();
  const [rewinding, setRewinding] = useState<[Topic, Subscription] | null>(null);
  const [keeping, setKeeping] = useState<Topic | null>(null);
  const waits = (at: string | null, none: string) =>
    at ? <span title={at}>{span(p.now - new Date(at).getTime())}</span> : <span className="text-quiet">{none}</span>;
  const remove = async (t: Topic, s: Subscription) => {
    try {
      await call(`/api/v1/topics/${enc(t.name)}/subscriptions/${enc(s.name)}`, { method: "DELETE" });
      toast.success(`The subscription ${s.name} is removed; the messages of ${t.name} stay`);
      await changed();
    } catch (e) {
      toast.error(says(e));
    }
  };
  return (
    <table className="grid-table mt-4 table-fixed border-t border-line" aria-label="Topics">
      <thead>
        <tr>
          <th className="w-[23%]">Topic: each message to every subscription</th>
          <th>Read by</th>
          <th className="w-[6%] !text-right">Lag</th>
          <th className="w-[6.5%] !text-right">In flight</th>
          <th className="w-[8.5%] !text-right">Oldest</th>
          <th className="w-[8%] !text-right">In a minute</th>
          <th className="w-[8.5%] !text-right">Out a minute</th>
          <th className="w-[15%]" />
        </tr>
      </thead>
      <tbody>
        {p.topics.map((t) => (
          <Fragment key={t.name}>
            <tr data-topic={t.name} aria-selected={t.name === p.open}>
              <td className="data !font-bold">{t.name}</td>
              <td className="text-quiet">
                {number(t.messages)} {t.messages === 1 ? "message" : "messages"}, {size(t.bytes)}; {keeps(t)}
                {t.unheard > 0 && (
                  <span className="ml-2 text-wait">{number(t.unheard)} were put while nobody subscribed</span>
                )}
              </td>
              <td />
              <td />
              <td className="text-right">{waits(t.oldestAt, "empty")}</td>
              <td className="text-right">{number(t.inPerMinute)}</td>
              <td />
              <td className="text-right">
                <button type="button" className="btn-bare mr-4" onClick={() => setKeeping(t)}>
                  keep
                </button>
                <button type="button" className="btn-bare" onClick={() => p.onOpen(t.name === p.open ? "" : t.name)}>
                  {t.name === p.open ? "close" : "look inside"}
                </button>
              </td>
            </tr>
            {t.subscriptions.length === 0 && (
              <tr>
                <td className="!pl-8 text-wait">no subscription</td>
                <td colSpan={7} className="text-quiet">
                  its messages stay in the log for later readers
                </td>
              </tr>
            )}
            {t.subscriptions.map((s) => (
              <tr key={s.name} data-subscription={`${t.name}/${s.name}`}>
                <td className="!pl-8">
                  <span className="data">{s.name}</span>{" "}
                  <span className="text-quiet">
                    at offset {number(s.position)} of {number(t.nextOffset)}
                  </span>
                  {s.missed > 0 && <span className="ml-2 text-dead">{number(s.missed)} dropped unread</span>}
                </td>
                <td>
                  {s.readers.length === 0 ? (
                    <b className="text-dead">nobody</b>
                  ) : (
                    s.readers.map((r) => (
                      <button key={r} type="button" className="btn-bare mr-3" onClick={() => go(`/flows/${r}`)}>
                        {p.title(r)}
                      </button>
                    ))
                  )}
                </td>
                <td className="text-right font-semibold">{number(s.lag)}</td>
                <td className="text-right">{number(s.inFlight)}</td>
                <td className="text-right">{waits(s.oldestAt, "all is read")}</td>
                <td />
                <td className="text-right">{number(s.outPerMinute)}</td>
                <td className="text-right">
                  {s.readers.length === 0 && (
                    <button type="button" className="btn-bare mr-4" onClick={() => remove(t, s)}>
                      remove
                    </button>
                  )}
                  <button type="button" className="btn-bare" onClick={() => setRewinding([t, s])}>
                    rewind
                  </button>
                </td>
              </tr>
            ))}
          </Fragment>
        ))}
        {p.topics.length === 0 && (
          <tr>
            <td colSpan={8} className="text-quiet">
              no topic yet
            </td>
          </tr>
        )}
      </tbody>
      {rewinding && <Rewind topic={rewinding[0]} subscription={rewinding[1]} onClose={() => setRewinding(null)} />}
      {keeping && <Keep topic={keeping} onClose={() => setKeeping(null)} />}
    </table>
  );
}

/** Sets a subscription to another place in its topic. */
function Rewind({ topic, subscription, onClose }: { topic: Topic; subscription: Subscription; onClose: () => void }) {
  const [to, setTo] = useState("earliest");
  const [offset, setOffset] = useState(String(subscription.position));
  const [time, setTime] = useState("");
  const [bad, setBad] = useState<string>();
  const go = async () => {
    if (to === "time" && Number.isNaN(Date.parse(time))) {
      setBad("choose a day and a time");
      return;
    }
    const body =
      to === "offset" ? { offset: Number(offset) } : to === "time" ? { time: new Date(time).toISOString() } : { to };
    try {
      const path = `/api/v1/topics/${enc(topic.name)}/subscriptions/${enc(subscription.name)}/rewind`;
      const { value } = await call<{ position: number }>(path, { body });
      toast.success(`${subscription.name} reads on at offset ${number(value.position)}`);
      await changed();
      onClose();
    } catch (e) {
      setBad(says(e));
    }
  };
  return (
    <Dialog open onClose={onClose} title={`Rewind ${subscription.name} in ${topic.name}`}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          go();
        }}
      >
        <p className="mb-2 text-quiet">
          It stands at offset {number(subscription.position)}; the topic holds {number(topic.firstOffset)} to{" "}
          {number(Math.max(topic.firstOffset, topic.nextOffset - 1))}. What it reads again begins anew; what it passes
          over it does not read. What is in flight goes on.
        </p>
        <Setting label="To" error={bad}>
          <Select
            label="To"
            value={to}
            onChange={setTo}
            options={[
              ["earliest", "the oldest message kept"],
              ["latest", "the end: only what comes from now on"],
              ["time", "a time"],
              ["offset", "an offset"],
            ]}
          />
        </Setting>
        {to === "offset" && (
          <Setting label="Offset">
            <Text mono type="number" label="Offset" value={offset} onChange={setOffset} />
          </Setting>
        )}
        {to === "time" && (
          <Setting label="Time" hint="local time; the first message put then or later is read next">
            <Text type="datetime-local" label="Time" value={time} onChange={setTime} />
          </Setting>
        )}
        <button type="submit" className="btn btn-go">
          Rewind
        </button>
      </form>
    </Dialog>
  );
}

/** How old and how large the log of a topic may become. */
function Keep({ topic, onClose }: { topic: Topic; onClose: () => void }) {
  const [hours, setHours] = useState(topic.keepFor ? String(topic.keepFor / 3_600_000) : "");
  const [mebibytes, setMebibytes] = useState(topic.keepBytes ? String(topic.keepBytes / 2 ** 20) : "");
  const [dropUnread, setDropUnread] = useState(topic.dropUnread);
  const [bad, setBad] = useState<string>();
  const lagging = topic.subscriptions.filter((s) => s.lag > 0).map((s) => s.name);
  const go = async () => {
    try {
      await call(`/api/v1/topics/${enc(topic.name)}`, {
        method: "PUT",
        body: {
          keepFor: Math.round(Number(hours) * 3_600_000),
          keepBytes: Math.round(Number(mebibytes) * 2 ** 20),
          dropUnread,
        },
      });
      await changed();
      onClose();
    } catch (e) {
      setBad(says(e));
    }
  };
  return (
    <Dialog open onClose={onClose} title={`What ${topic.name} keeps`}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          go();
        }}
      >
        <div className="flex gap-2">
          <Setting inline label="For so many hours" hint="empty: for ever" error={bad}>
            <Text mono type="number" label="For so many hours" value={hours} onChange={setHours} />
          </Setting>
          <Setting inline label="Up to so many MiB" hint="empty: any size">
            <Text mono type="number" label="Up to so many MiB" value={mebibytes} onChange={setMebibytes} />
          </Setting>
        </div>
        <label className="mb-2 flex items-center gap-1.5">
          <input type="checkbox" checked={dropUnread} onChange={(e) => setDropUnread(e.target.checked)} />
          drop even what a subscription has not read
        </label>
        {dropUnread && (
          <p className="mb-2 text-dead">
            {lagging.length
              ? `${lagging.join(", ")} would lose what they have not read once it is too old or too much; the loss is counted.`
              : "A subscription that falls behind will lose messages; the loss is counted."}
          </p>
        )}
        <button type="submit" className="btn btn-go">
          Keep so
        </button>
      </form>
    </Dialog>
  );
}

/** The log of a topic, the newest first. */
export function InsideTopic({ name, topic }: { name: string; topic?: Topic }) {
  const [limit, setLimit] = useState(50);
  const next = topic?.nextOffset ?? 0;
  const messages = useQuery({
    queryKey: ["queues", "topic", name, "messages", next, limit],
    placeholderData: (old: TopicMessage[] | undefined) => old,
    queryFn: () => get<TopicMessage[]>(`/api/v1/topics/${enc(name)}/messages?before=${next}&limit=${limit}`),
  });
  return (
    <section aria-label={`Messages of ${name}`} className="flex h-[46%] shrink-0 flex-col border-t-2 border-deep">
      <h2 className="pane-head">
        {name}{" "}
        <span className="font-normal text-quiet">
          its log, the newest first
          {topic &&
            messages.data &&
            messages.data.length > 0 &&
            `: the last ${number(messages.data.length)} of ${number(topic.messages)}`}
        </span>
      </h2>
      <div className="min-h-0 flex-1 overflow-auto bg-sheet">
        {messages.data?.length === 0 && <p className="p-3 text-quiet">The topic is empty.</p>}
        {messages.data?.map((m) => (
          <StoredRow
            key={m.n}
            n={m.n}
            reference={m.reference}
            at={m.putAt}
            facts={
              <>
                <span className="text-quiet">
                  {(topic?.subscriptions ?? [])
                    .map((s) => `${s.name}: ${m.n < s.position ? "read" : "not yet"}`)
                    .join(", ")}
                </span>
                {m.readers.some((r) => r.nextTryAt) && <span className="text-wait">waits for another try</span>}
              </>
            }
            link={{ text: m.from ? "where it came from" : "from outside", transaction: m.from }}
          >
            {m.readers.length > 0 && (
              <p className="flex flex-wrap gap-x-4 px-3 py-1.5">
                {m.readers.map((r) => (
                  <Link key={r.transaction} className="underline" to={`/transactions/${r.transaction}`}>
                    {r.subscription}: {r.state}
                    {r.tries > 0 && `, ${r.tries} ${r.tries === 1 ? "try" : "tries"}`}
                    {r.nextTryAt && (
                      <>
                        , next <Time at={r.nextTryAt} />
                      </>
                    )}
                  </Link>
                ))}
              </p>
            )}
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
    </section>
  );
}
