import { Link } from "react-router";
import { toast } from "sonner";
import { call, type Schemas } from "../api/client";
import { queryClient, useConnections, useRunners } from "../api/queries";
import { useSession } from "../api/session";
import { Mark } from "../ui/marks";
import { says } from "../ui/parts";
import { age, number, Time, useNow } from "../ui/time";

export type Runner = Schemas["Runner"];

/** How a runner is, in words. */
export function runnerSays(r: Runner, now: number) {
  const since = r.since ? age(now - new Date(r.since).getTime()) : "";
  if (r.there) return `there for ${since}`;
  return since ? `away for ${since}` : "not there since the start";
}

/** Says of a delivery that waits that the runner by which its target is reached is away. */
export function Away({ target }: { target: string }) {
  const now = useNow();
  const at = useConnections().data?.find((c) => c.name === target)?.document as { at?: string } | undefined;
  const called = target.startsWith("runner:") ? target.slice("runner:".length) : at?.at;
  const runner = useRunners().data?.find((r) => r.name === called);
  if (!runner || runner.there) return null;
  return ` waits for the runner ${runner.name}, which is ${runnerSays(runner, now)}`;
}

/** The programs beside systems that only a closed network reaches, and what waits for them. */
export function Runners() {
  const runners = useRunners();
  const now = useNow();
  const demo = (useSession().data?.demo.length ?? 0) > 0;
  const cut = async (runner: string) => {
    try {
      await call("/api/v1/demo/cut", { body: { runner, seconds: 120 } });
      await queryClient.invalidateQueries({ queryKey: ["connections"] });
    } catch (e) {
      toast.error(says(e));
    }
  };
  if (!runners.data?.length) return null;
  return (
    <section className="shrink-0 border-t border-line" aria-labelledby="runners">
      <h2 id="runners" className="pane-head min-h-[36px] items-center">
        Runners <span className="font-normal text-quiet">beside systems that only their own network reaches</span>
      </h2>
      <table className="grid-table table-fixed">
        <thead>
          <tr>
            <th className="w-[14%]">Runner</th>
            <th className="w-[29%]">How it is</th>
            <th>Connections by it, flows at it</th>
            <th className="w-[100px] !text-right">Waits for it</th>
            <th className="w-[90px] !text-right">It keeps</th>
            <th className="w-[22%]">Version, started</th>
          </tr>
        </thead>
        <tbody>
          {runners.data.map((r) => (
            <tr key={r.name}>
              <td className="font-bold">{r.name}</td>
              <td className={r.there ? "" : "text-wait"}>
                <span className="flex items-center gap-1.5">
                  <Mark state={r.there ? "delivered" : "waiting"} /> {runnerSays(r, now)}
                  {demo && r.there && (
                    <button type="button" className="btn-bare ml-2" onClick={() => void cut(r.name)}>
                      cut its line for two minutes
                    </button>
                  )}
                </span>
              </td>
              <td>
                {r.connections.map((c, i) => (
                  <span key={c}>
                    {i > 0 && ", "}
                    <Link className="underline" to={`/connections?open=${encodeURIComponent(c)}`}>
                      {c}
                    </Link>
                  </span>
                ))}
                {r.flows.map((f, i) => (
                  <span key={f}>
                    {(i > 0 || r.connections.length > 0) && ", "}
                    {i === 0 && "runs "}
                    <Link className="underline" to={`/flows/${encodeURIComponent(f)}`}>
                      {f}
                    </Link>
                  </span>
                ))}
                {r.connections.length + r.flows.length === 0 && (
                  <span className="text-quiet">none says at: {r.name}</span>
                )}
              </td>
              <td className="text-right">{number(r.waiting)}</td>
              <td className="text-right" title="messages that it has received, until they are stored here">
                {number(Object.values(r.kept).reduce((all, n) => all + n, 0))}
              </td>
              <td className="truncate">
                <span className="data">{r.version.slice(0, 7)}</span>, {r.began && <Time at={r.began} withDate />}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
