import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { toast } from "sonner";
import { call, get, type Schemas } from "../api/client";
import { queryClient, useAlarms } from "../api/queries";
import { useKnown } from "../api/session";
import { useAddress } from "../ui/address";
import { Dialog, Empty, PageHead, Setting, says, Text, Trouble } from "../ui/parts";
import { age, span, Time, useNow } from "../ui/time";
import { amount } from "./alarm-lines";
import { AlarmRules } from "./alarm-rules";
import { Calendars } from "./calendars";
import { who } from "./letters";

export type Alarm = Schemas["Alarm"];

/** Where one sees what an alarm is about. */
function place(a: Alarm): [string, string] | null {
  const name = encodeURIComponent(a.about);
  if (a.kind === "dead-letters" || a.kind === "open-letters") return ["/dead-letters", "dead letters"];
  if (a.kind === "turned-away") return [`/transactions?flow=${name}&state=turned away`, "what was turned away"];
  if (a.kind === "age" || a.kind === "unfinished")
    return [`/transactions?flow=${name}&filter=${encodeURIComponent("state:waiting")}`, "what has not ended"];
  if (a.of === "flow") return [`/flows/${name}`, "the flow"];
  if (a.of === "connection") return [`/connections?open=${name}`, "the connection"];
  if (a.of === "queue" || a.of === "subscription") return ["/queues", "queues and topics"];
  if (a.of === "key") return ["/connections?show=keys", "keys"];
  return null;
}

const tabs = [
  ["", "Now"],
  ["past", "What was"],
  ["rules", "Rules"],
  ["calendars", "Calendars"],
  ["told", "Who was told"],
] as const;

/** What is wrong now and what to do; and the rules, calendars and notices behind it. */
export function AlarmsPage() {
  const [search, setSearch] = useAddress();
  const show = search.get("show") ?? "";
  const alarms = useAlarms();
  const open = alarms.data?.length ?? 0;
  return (
    <>
      <PageHead
        title="Alarms"
        facts={alarms.data && (open === 0 ? "nothing rings" : `${open} ${open === 1 ? "rings" : "ring"} now`)}
      >
        <div className="flex gap-1" role="tablist" aria-label="Of alarms">
          {tabs.map(([key, title]) => (
            <button
              key={key}
              type="button"
              role="tab"
              aria-selected={show === key}
              className={`btn ${show === key ? "!border-deep font-bold" : ""}`}
              onClick={() => setSearch(key ? { show: key } : {})}
            >
              {title}
            </button>
          ))}
        </div>
      </PageHead>
      <div className="min-h-0 flex-1 overflow-auto">
        {show === "" && <Now />}
        {show === "past" && <Past />}
        {show === "rules" && <AlarmRules />}
        {show === "calendars" && <Calendars />}
        {show === "told" && <Told />}
      </div>
    </>
  );
}

function Now() {
  const alarms = useAlarms();
  if (alarms.error) return <Trouble error={alarms.error} />;
  if (alarms.data?.length === 0)
    return (
      <Empty title="Nothing is wrong">
        <p>
          Every rule that is kept under Rules is looked at each ten seconds. What rings stands here, with what one does
          about it, until it is over.
        </p>
      </Empty>
    );
  const sorted = [...(alarms.data ?? [])].sort(
    (a, b) => Number(b.urgent && !b.taken) - Number(a.urgent && !a.taken) || Number(!!a.taken) - Number(!!b.taken) || 0,
  );
  return (
    <ol aria-label="What is wrong now" className="m-0 list-none p-0">
      {sorted.map((a) => (
        <Row key={a.id} a={a} />
      ))}
    </ol>
  );
}

async function act(id: string, method: "PUT" | "DELETE", body?: object) {
  try {
    await call(`/api/v1/alarms/${id}/taken`, body ? { method, body } : { method });
    await queryClient.invalidateQueries({ queryKey: ["alarms"] });
  } catch (e) {
    toast.error(says(e));
  }
}

function Row({ a }: { a: Alarm }) {
  const now = useNow(5000);
  const [asking, setAsking] = useState(false);
  const where = place(a);
  return (
    <li
      className="grid grid-cols-[96px_minmax(0,1fr)_auto] gap-x-4 border-b border-line bg-sheet px-4 py-3"
      data-testid="alarm"
      data-about={a.about}
    >
      <div className={a.taken ? "text-quiet" : "text-dead"}>
        <b className="text-[15px]">{age(now - new Date(a.since).getTime())}</b>
        {a.urgent && !a.taken && <div className="text-[12.5px]">urgent</div>}
      </div>
      <div>
        <h2 className="!mb-0.5 text-[15px]">
          {a.title}
          {a.about && <span className="data ml-2 !font-bold">{a.about}</span>}
        </h2>
        <p>
          <b>{amount(a.value, a.unit)}</b> now
          {a.worst !== a.value && `, ${amount(a.worst, a.unit)} at worst`}
          <span className="text-quiet"> · {a.words}</span>
        </p>
        <p className="mt-1 max-w-[80ch]">{a.advice}</p>
        {a.taken && (
          <p className="mt-1 text-quiet">
            {a.taken.by} has it in hand since <Time at={a.taken.at} />
            {a.taken.note && `: ${a.taken.note}`}
          </p>
        )}
      </div>
      <div className="flex flex-col items-end gap-1.5">
        {where && (
          <Link className="btn" to={where[0]}>
            See {where[1]}
          </Link>
        )}
        {a.taken ? (
          <button type="button" className="btn-bare" onClick={() => void act(a.id, "DELETE")}>
            nobody has it in hand
          </button>
        ) : (
          <button type="button" className="btn" onClick={() => setAsking(true)}>
            I have it in hand
          </button>
        )}
      </div>
      {asking && <Take a={a} onClose={() => setAsking(false)} />}
    </li>
  );
}

function Take({ a, onClose }: { a: Alarm; onClose: () => void }) {
  const [by, setBy] = useState(who());
  const known = useKnown();
  const [note, setNote] = useState("");
  return (
    <Dialog open onClose={onClose} title={`${a.title}${a.about ? `: ${a.about}` : ""}`}>
      <p className="mb-3 text-quiet">Whoever would be told later is not told, as long as somebody has it in hand.</p>
      {!known && (
        <Setting label="Your name">
          <Text label="Your name" value={by} onChange={setBy} />
        </Setting>
      )}
      <Setting label="Note" hint="what is being done about it">
        <Text label="Note" value={note} onChange={setNote} />
      </Setting>
      <button
        type="button"
        className="btn btn-go"
        onClick={() => {
          if (by) localStorage.setItem("who", by);
          void act(a.id, "PUT", { by, note });
          onClose();
        }}
      >
        I have it in hand
      </button>
    </Dialog>
  );
}

const pageSize = 200;

function Past() {
  const [limit, setLimit] = useState(pageSize);
  const past = useQuery({
    queryKey: ["alarms", "past", limit],
    placeholderData: (was: Alarm[] | undefined) => was,
    queryFn: () => get<Alarm[]>(`/api/v1/alarms?state=all&limit=${limit}`),
  });
  if (past.error) return <Trouble error={past.error} />;
  if (past.data?.length === 0) return <Empty title="Nothing has rung yet" />;
  return (
    <div className="p-4">
      <table className="grid-table">
        <thead>
          <tr>
            <th>Began</th>
            <th>For</th>
            <th>What</th>
            <th>At worst</th>
            <th>In hand</th>
          </tr>
        </thead>
        <tbody>
          {past.data?.map((a) => (
            <tr key={a.id}>
              <td>
                <Time at={a.since} withDate />
              </td>
              <td>{a.ended ? span(Date.parse(a.ended) - Date.parse(a.since)) : <b className="text-dead">rings</b>}</td>
              <td>
                {a.title} <span className="data">{a.about}</span>
                <div className="text-quiet">{a.words}</div>
              </td>
              <td>{a.unit && amount(a.worst, a.unit)}</td>
              <td>{a.taken ? `${a.taken.by}${a.taken.note ? `: ${a.taken.note}` : ""}` : ""}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {past.data?.length === limit && limit < 1000 && (
        <button type="button" className="btn mt-3" onClick={() => setLimit(Math.min(1000, limit + pageSize))}>
          Show older ones
        </button>
      )}
    </div>
  );
}

function Told() {
  const notices = useQuery({
    queryKey: ["alarms", "notices"],
    queryFn: () => get<Schemas["AlarmNotice"][]>("/api/v1/alarm-notices?limit=200"),
  });
  const now = useNow(5000);
  if (notices.error) return <Trouble error={notices.error} />;
  if (notices.data?.length === 0)
    return (
      <Empty title="Nobody was told of anything yet">
        <p>Say in a rule whom it tells: a mail, a webhook or any other connection, or a flow.</p>
      </Empty>
    );
  return (
    <div className="p-4">
      <table className="grid-table">
        <thead>
          <tr>
            <th>When</th>
            <th>Notice</th>
            <th>To</th>
            <th>Came there</th>
          </tr>
        </thead>
        <tbody>
          {notices.data?.map((n) => (
            <tr key={n.id}>
              <td>
                <Time at={n.at} withDate />
              </td>
              <td>{n.title}</td>
              <td>
                {n.to.flow ? `the flow ${n.to.flow}` : n.to.connection} {n.to.recipients ?? n.to.path}
              </td>
              <td className={n.state === "failed" ? "text-dead" : ""}>
                {n.state}
                {n.tries > 1 && `, at try ${n.tries}`}
                {n.nextTryAt && `, next in ${span(Math.max(0, Date.parse(n.nextTryAt) - now))}`}
                {n.error && <div className="text-quiet">{n.error}</div>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
