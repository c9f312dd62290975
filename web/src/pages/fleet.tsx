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

function markOf(m: Member): string {
  if (!m.there) return "dead letter";
  return m.trouble || ["takes over", "hands over", "takes a copy"].includes(m.state) ? "waiting" : "delivered";
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
  return (
    <>
      <PageHead
        title={f ? `The fleet ${f.name}` : "The fleet"}
        facts={
          f && (
            <span>
              {there} of {f.members.length} members are there, {f.majority} must be; {f.leader || "nobody"} leads
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
                <th className="w-[25%]">How it is</th>
                <th className="w-[120px] !text-right">Records behind</th>
                <th className="w-[13%]">The log on its disk</th>
                <th>Address</th>
                <th className="w-[21%]">Version, started</th>
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
                        {memberSays(m, now)}
                        {m.trouble && `: ${m.trouble}`}
                      </span>
                    </span>
                  </td>
                  <td className="text-right">{m.there ? number(m.behind) : ""}</td>
                  <td>
                    {m.keeps
                      ? m.current
                        ? f.log?.leader === m.name
                          ? "current, decides"
                          : "current"
                        : "not current"
                      : "keeps none"}
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
        {f && (
          <p className="px-3 py-2 text-quiet" data-testid="log">
            {f.log
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
