import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { toast } from "sonner";
import { call, type Flow, type MinuteCount } from "../api/client";
import { queryClient, useCauses, useConnections, useFlows, useRefusedCallers, useTroubles } from "../api/queries";
import { useMay } from "../api/session";
import { useAddress } from "../ui/address";
import { Mark } from "../ui/marks";
import { Dialog, Empty, PageHead, says, Text, Trouble } from "../ui/parts";
import { age, number, Time, useNow } from "../ui/time";
import { AlarmCount, AlarmLines } from "./alarm-lines";
import { NoRoom, RoomLine } from "./room";
import { StartFlow } from "./start-flow";

/** Sixty minutes as bars: height by count, colour by the worst that happened. */
function LastHour({ counts, now }: { counts: MinuteCount[]; now: number }) {
  const minute = Math.floor(now / 60_000);
  const total = (c: MinuteCount) => c.underWay + c.waiting + c.delivered + c.turnedAway + c.deadLetters;
  const most = Math.max(4, ...counts.map(total));
  if (!counts.length) return <span className="text-quiet">nothing in the last hour</span>;
  return (
    <svg width="240" height="24" role="img" aria-label={`${counts.reduce((n, c) => n + total(c), 0)} in the last hour`}>
      {counts.map((c) => {
        const i = 59 - (minute - Math.floor(new Date(c.minute).getTime() / 60_000));
        const h = Math.max(2, (22 * total(c)) / most);
        const colour = c.deadLetters ? "var(--color-dead)" : c.waiting ? "var(--color-wait)" : "var(--color-deep)";
        return <rect key={c.minute} x={i * 4} y={23 - h} width="3" height={h} fill={colour} />;
      })}
    </svg>
  );
}

function Count({ n, colour }: { n: number; colour?: string }) {
  return <span className={n === 0 ? "text-quiet" : `font-semibold ${colour ?? ""}`}>{number(n)}</span>;
}

const state = (f: Flow) =>
  f.live === 0
    ? "draft, never published"
    : f.paused
      ? "paused"
      : f.edits
        ? `draft with ${f.edits} ${f.edits === 1 ? "edit" : "edits"}`
        : "";

/** Calls that were not let in: how many, and on demand which. */
function RefusedCallers() {
  const refused = useRefusedCallers();
  const [open, setOpen] = useState(false);
  const counts = Object.entries(refused.data?.counts ?? {}).sort((a, b) => b[1] - a[1]);
  const all = counts.reduce((n, [, k]) => n + k, 0);
  if (!all) return null;
  return (
    <>
      <button
        type="button"
        className="flex w-full items-center gap-2.5 py-1 text-left hover:underline"
        onClick={() => setOpen(true)}
        data-testid="refused"
      >
        <Mark state="turned away" />
        <span className="min-w-0 flex-1 truncate">
          {number(all)} {all === 1 ? "call was" : "calls were"} not let in
        </span>
        <span className="text-quiet">{counts.map(([flow, n]) => `${number(n)} of ${flow}`).join(", ")}</span>
      </button>
      <Dialog open={open} onClose={() => setOpen(false)} title="Calls that were not let in" wide>
        <p className="mb-2 text-quiet">
          Their caller did not prove who it is, so nothing of them was read. The last 200 since the application began; a
          restart forgets them.
        </p>
        <div className="max-h-[60vh] overflow-auto">
          <table className="grid-table">
            <thead>
              <tr>
                <th>When</th>
                <th>Flow</th>
                <th>Call</th>
                <th>From</th>
                <th>Why</th>
              </tr>
            </thead>
            <tbody>
              {refused.data?.calls.map((c, i) => (
                <tr key={i}>
                  <td>
                    <Time at={c.at} withDate />
                  </td>
                  <td>{c.flow}</td>
                  <td className="data">
                    {c.method} {c.path}
                  </td>
                  <td className="data">{c.from}</td>
                  <td>{c.why}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </Dialog>
    </>
  );
}

export function FlowsPage() {
  const may = useMay();
  const flows = useFlows();
  const causes = useCauses();
  const troubles = useTroubles();
  const connections = useConnections();
  const go = useNavigate();
  const now = useNow(5000);
  const [filter, setFilter] = useState("");
  const [search, setSearch] = useAddress();
  const start = search.get("start") === "flow";
  const setStart = (on: boolean) => setSearch(on ? { start: "flow" } : {}, { replace: true });
  const loadDemo = async () => {
    try {
      await call("/api/v1/demo", { method: "POST" });
      await queryClient.invalidateQueries();
    } catch (e) {
      toast.error(says(e));
    }
  };
  const all = flows.data ?? [];
  const shown = all.filter((f) => `${f.title} ${f.name}`.toLowerCase().includes(filter.toLowerCase()));
  const live = all.filter((f) => f.live > 0).length;
  return (
    <>
      <PageHead
        title="Flows"
        facts={
          flows.data && (
            <>
              {`${live} live, ${all.length - live} draft · ${number(all.reduce((n, f) => n + f.today, 0))} transactions today · `}
              <AlarmCount />
            </>
          )
        }
      >
        {all.length > 0 && (
          <div className="w-64">
            <Text label="Filter flows" placeholder="Filter flows" value={filter} onChange={setFilter} />
          </div>
        )}
        {may("design") && (
          <button type="button" className="btn btn-go" onClick={() => setStart(true)}>
            Start a flow
          </button>
        )}
      </PageHead>
      <NoRoom />
      {flows.error && <Trouble error={flows.error} />}
      <div className="min-h-0 flex-1 overflow-auto">
        {flows.data?.length === 0 ? (
          <Empty title="Nothing is here yet">
            <p className="mb-4">
              A flow receives messages, checks and reshapes them, and delivers them so that none is lost. Start your
              own, or look at the demo of an invented library service first.
            </p>
            <span className="flex justify-center gap-2">
              <button type="button" className="btn btn-go" onClick={() => setStart(true)}>
                Start a flow
              </button>
              <button type="button" className="btn" onClick={loadDemo}>
                Load the demo
              </button>
            </span>
          </Empty>
        ) : (
          <>
            <table className="grid-table">
              <thead>
                <tr>
                  <th>Flow</th>
                  <th>Comes in by</th>
                  <th>Last hour</th>
                  <th className="!text-right">Today</th>
                  <th className="!text-right">Waiting</th>
                  <th className="!text-right">Dead letters</th>
                  <th>Live</th>
                </tr>
              </thead>
              <tbody>
                {shown.map((f) => (
                  <tr key={f.name} className="cursor-pointer" onClick={() => go(`/flows/${f.name}`)}>
                    <td>
                      <Link to={`/flows/${f.name}`} className="text-[14.5px] font-bold">
                        {f.title}
                      </Link>
                      {state(f) && <div className="text-quiet">{state(f)}</div>}
                    </td>
                    <td>
                      <b className="text-deep">{f.intake.kind}</b>{" "}
                      <span className="data">
                        {f.intake.kind === "webhook" ? `/in${f.intake.where}` : f.intake.where}
                      </span>
                      {f.trouble && (
                        <div className="max-w-[420px] truncate text-dead" title={f.trouble.why} data-testid="failing">
                          has failed for {age(now - new Date(f.trouble.since).getTime())}: {f.trouble.why}
                        </div>
                      )}
                    </td>
                    <td>
                      <LastHour counts={f.lastHour} now={now} />
                    </td>
                    <td className="text-right">
                      <Count n={f.today} />
                    </td>
                    <td className="text-right">
                      <Count n={f.waiting} colour="text-wait" />
                    </td>
                    <td className="text-right">
                      <Count n={f.deadLetters} colour="text-dead" />
                    </td>
                    <td className={f.live ? "" : "text-quiet"}>{f.live ? `version ${f.live}` : "no"}</td>
                  </tr>
                ))}
              </tbody>
            </table>
            {filter && shown.length === 0 && <p className="p-4 text-quiet">No flow has “{filter}” in its name.</p>}
            {all.length > 0 && (
              <div className="mt-4 grid grid-cols-2 border-t-2 border-b border-t-deep border-b-line bg-sheet">
                <section className="max-h-80 min-h-32 overflow-auto border-r border-line p-4">
                  <AlarmLines />
                  <h2 className="mt-3 mb-2">Needs a person</h2>
                  {causes.data?.length === 0 && troubles.data?.length === 0 && (
                    <p className="text-quiet">No dead letters, and every source works. Nothing waits for a decision.</p>
                  )}
                  {troubles.data?.map((t) => (
                    <Link
                      key={`${t.flow}${t.load ?? ""}`}
                      to={`/flows/${t.flow}`}
                      className="flex items-center gap-2.5 py-1 hover:underline"
                      title={t.why}
                      data-testid="trouble"
                    >
                      <Mark state="waiting" />
                      <span className="min-w-0 flex-1 truncate">
                        {t.load ? `The load ${t.title} stopped` : `The ${t.kind} fails`}: {t.why}
                      </span>
                      <span className="text-quiet">
                        {t.flow}, since {age(now - new Date(t.since).getTime())}
                      </span>
                    </Link>
                  ))}
                  {causes.data?.map((c) => (
                    <Link
                      key={c.cause}
                      to={`/dead-letters?cause=${c.cause}`}
                      className="flex items-center gap-2.5 py-1 hover:underline"
                    >
                      <Mark state="dead letter" />
                      <span className="min-w-0 flex-1 truncate">{c.text}</span>
                      <span className="text-quiet">
                        {c.count} in {c.flow}, since {age(now - new Date(c.since).getTime())}
                      </span>
                    </Link>
                  ))}
                  <RefusedCallers />
                </section>
                <section className="p-4">
                  <RoomLine />
                  <h2 className="mt-3 mb-2">Targets</h2>
                  {connections.data
                    ?.filter((c) => c.kind === "http")
                    .slice(0, 8)
                    .map((c) => (
                      <Link
                        key={c.name}
                        to={`/connections?open=${c.name}`}
                        className="flex items-center gap-2.5 py-1 hover:underline"
                      >
                        <Mark state={c.waiting ? "waiting" : "delivered"} />
                        <b className="flex-1">{c.name}</b>
                        <span className="text-quiet">{c.waiting ? `${c.waiting} wait` : "nothing waits"}</span>
                      </Link>
                    ))}
                </section>
              </div>
            )}
          </>
        )}
      </div>
      <StartFlow open={start} onClose={() => setStart(false)} />
    </>
  );
}
