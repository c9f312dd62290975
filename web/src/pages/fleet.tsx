import { useQuery } from "@tanstack/react-query";
import { toast } from "sonner";
import { call, get, type Schemas } from "../api/client";
import { queryClient } from "../api/queries";
import { useMay } from "../api/session";
import { Mark } from "../ui/marks";
import { PageHead, says, Trouble } from "../ui/parts";
import { age, number, size, Time, useNow } from "../ui/time";
import { Runners } from "./runners";

type Member = Schemas["FleetMember"];

/** How a member is, in words. */
function memberSays(m: Member, now: number): string {
  if (!m.there) return m.seen ? `away for ${age(now - new Date(m.seen).getTime())}` : "not seen yet";
  const does = m.state === "leads" ? "leads: its engine works" : m.state;
  return m.drained ? `${does}, drained` : does;
}

/** What it leads, in words. */
function leadsSays(m: Member): string {
  if (!m.there || m.leads.length === 0) return "";
  return m.leads.length === 1 ? `partition ${m.leads[0]}` : `partitions ${m.leads.join(", ")}`;
}

function markOf(m: Member): string {
  if (!m.there) return "dead letter";
  return m.trouble || ["takes over", "hands over", "takes a copy"].includes(m.state) ? "waiting" : "delivered";
}

/** The flows whose messages are in one partition alone, and why. */
function AtHome({ flows, partition }: { flows: Schemas["FleetFlow"][]; partition: number }) {
  const home = flows.filter((x) => x.partition === partition);
  if (home.length === 0) return null;
  return (
    <details className="mt-1" open={partition > 0}>
      <summary>
        {home.length} {home.length === 1 ? "flow is" : "flows are"} in partition {partition} alone, and why
      </summary>
      <ul className="mt-1 ml-4">
        {home.map((x) => (
          <li key={x.name}>
            <b>{x.name}</b>: {x.why}
          </li>
        ))}
      </ul>
    </details>
  );
}

/** The partitions, and which flows' messages are spread over them. */
function Partitions({ of: f }: { of: Schemas["FleetNow"] }) {
  const spread = f.flows.filter((x) => x.partition === null);
  return (
    <>
      <table className="grid-table table-fixed" data-testid="partitions">
        <thead>
          <tr>
            <th className="w-[9%]">Partition</th>
            <th className="w-[25%]">Who works on it</th>
            <th className="w-[120px] !text-right">Records behind</th>
            <th className="w-[13%]">Replicas of its log</th>
            <th>The log</th>
          </tr>
        </thead>
        <tbody>
          {f.partitions.map((p) => (
            <tr key={p.number}>
              <td className="font-bold">{p.number}</td>
              <td className={p.leader ? "" : "text-dead"}>
                <span className="flex items-center gap-1.5">
                  <Mark state={p.leader ? "delivered" : "dead letter"} />
                  {p.leader || "nobody"}
                  {p.number === 0 && <span className="text-quiet">(with the design)</span>}
                </span>
                {Object.entries(p.troubles).map(([member, trouble]) => (
                  <span key={member} className="block text-dead">
                    {member}: {trouble}
                  </span>
                ))}
              </td>
              <td className="text-right">{number(p.behind)}</td>
              <td>{p.log ? `${p.log.current} of ${p.log.replicas} current` : "cannot be asked"}</td>
              <td>{p.log && `records ${number(p.log.first)} to ${number(p.log.last)}, ${size(p.log.bytes)}`}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <section aria-label="Flows" className="px-3 py-2">
        <p>
          {spread.length > 0 ? (
            <>
              <b>{spread.map((x) => x.name).join(", ")}</b>: {spread.length === 1 ? "its" : "their"} messages are spread
              over all partitions, each by its order or once value, or where it comes in.
            </>
          ) : (
            "No live flow has messages that go their way by themselves, so that they could be spread."
          )}
        </p>
        {f.partitions.map((p) => (
          <AtHome key={p.number} flows={f.flows} partition={p.number} />
        ))}
      </section>
    </>
  );
}

/** The members of a fleet, the log that they keep, and the runners. */
export default function FleetPage() {
  const fleet = useQuery({
    queryKey: ["fleet"],
    refetchInterval: 1500, // members come and go without any event
    queryFn: () => get<Schemas["FleetNow"]>("/api/v1/fleet"),
  });
  const now = useNow();
  const may = useMay();
  const f = fleet.data;
  const drain = async (member: string, drained: boolean) => {
    try {
      await call("/api/v1/fleet/drain", { body: { member, drained } });
      await queryClient.invalidateQueries({ queryKey: ["fleet"] });
    } catch (e) {
      toast.error(says(e));
    }
  };
  const there = f?.members.filter((m) => m.there).length ?? 0;
  const several = (f?.partitions.length ?? 1) > 1;
  return (
    <>
      <PageHead
        title={f ? `The fleet ${f.name}` : "The fleet"}
        facts={
          f && (
            <span>
              {there} of {f.members.length} members are there, {f.majority} must be;{" "}
              {several ? `${f.partitions.length} partitions` : `${f.leader || "nobody"} leads`}
            </span>
          )
        }
      />
      {!f && fleet.error && <Trouble error={fleet.error} />}
      <div className="min-h-0 flex-1 overflow-auto">
        {f && (
          <table className="grid-table table-fixed">
            <thead>
              <tr>
                <th className="w-[9%]">Member</th>
                <th className="w-[22%]">How it is</th>
                <th className="w-[120px] !text-right">Records behind</th>
                <th className="w-[16%]">{several ? "Logs on its disk" : "The log on its disk"}</th>
                <th>Address</th>
                <th className="w-[22%]">Version, started</th>
                {may("own", true) && <th className="w-[90px]">{""}</th>}
              </tr>
            </thead>
            <tbody>
              {f.members.map((m) => (
                <tr key={m.name}>
                  <td className="font-bold">{m.name}</td>
                  <td className={m.there ? "" : "text-dead"}>
                    <span className="flex items-center gap-1.5">
                      <Mark state={markOf(m)} />
                      <span title={m.trouble}>
                        {(several && leadsSays(m) && `leads ${leadsSays(m)}`) || memberSays(m, now)}
                        {several && leadsSays(m) && m.drained && ", drained"}
                        {m.trouble && `: ${m.trouble}`}
                      </span>
                    </span>
                  </td>
                  <td className="text-right">{m.there ? number(m.behind) : ""}</td>
                  <td>
                    {m.keeps
                      ? m.current
                        ? !several && f.log?.leader === m.name
                          ? "current, decides"
                          : "current"
                        : "not current"
                      : "keeps none"}
                    {typeof m.free === "number" && `, ${size(m.free)} free`}
                  </td>
                  <td className="truncate">
                    <a className="underline" href={m.address}>
                      {m.address}
                    </a>
                  </td>
                  <td className="truncate">
                    <span className="data">{m.version.slice(0, 7)}</span>
                    {m.began && (
                      <>
                        , <Time at={m.began} withDate />
                      </>
                    )}
                  </td>
                  {may("own", true) && (
                    <td>
                      {m.there && (
                        <button type="button" className="btn-bare" onClick={() => void drain(m.name, !m.drained)}>
                          {m.drained ? "may lead" : "drain"}
                        </button>
                      )}
                    </td>
                  )}
                </tr>
              ))}
            </tbody>
          </table>
        )}
        {f && several && <Partitions of={f} />}
        {f && (
          <p className="px-3 py-2 text-quiet" data-testid="log">
            {several
              ? `What a caller was told is accepted is on ${f.majority} disks or more.`
              : f.log
                ? `One partition. The log has records ${number(f.log.first)} to ${number(f.log.last)}, ${size(f.log.bytes)}; ${f.log.current} of ${f.log.replicas} replicas are current. What a caller was told is accepted is on ${f.majority} disks or more.`
                : "The log cannot be asked now."}{" "}
            A member that is drained leads no more, so that it can be stopped without anybody waiting.
          </p>
        )}
      </div>
      <Runners />
    </>
  );
}
