import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { useRunners } from "../api/queries";
import { Mark } from "../ui/marks";
import { age, number, Time, useNow } from "../ui/time";

export type Runner = Schemas["Runner"];

/** How a runner is, in words. */
export function runnerSays(r: Runner, now: number) {
  const since = r.since ? age(now - new Date(r.since).getTime()) : "";
  if (r.there) return `there for ${since}`;
  return since ? `away for ${since}` : "not there since the start";
}

/** The programs beside systems that only a closed network reaches, and what waits for them. */
export function Runners() {
  const runners = useRunners();
  const now = useNow();
  if (!runners.data?.length) return null;
  return (
    <section className="shrink-0 border-t border-line" aria-labelledby="runners">
      <h2 id="runners" className="pane-head min-h-[36px] items-center">
        Runners <span className="font-normal text-quiet">beside systems that only their own network reaches</span>
      </h2>
      <table className="grid-table table-fixed">
        <thead>
          <tr>
            <th className="w-[17%]">Runner</th>
            <th className="w-[22%]">How it is</th>
            <th>Connections by it</th>
            <th className="w-[110px] !text-right">Waits for it</th>
            <th className="w-[110px] !text-right">It keeps</th>
            <th className="w-[20%]">Version, started</th>
          </tr>
        </thead>
        <tbody>
          {runners.data.map((r) => (
            <tr key={r.name}>
              <td className="font-bold">{r.name}</td>
              <td className={r.there ? "" : "text-wait"}>
                <span className="flex items-center gap-1.5">
                  <Mark state={r.there ? "delivered" : "waiting"} /> {runnerSays(r, now)}
                </span>
              </td>
              <td className="truncate">
                {r.connections.map((c, i) => (
                  <span key={c}>
                    {i > 0 && ", "}
                    <Link className="underline" to={`/connections?open=${encodeURIComponent(c)}`}>
                      {c}
                    </Link>
                  </span>
                ))}
                {r.connections.length === 0 && <span className="text-quiet">none says at: {r.name}</span>}
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
