import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { toast } from "sonner";
import { call, get, type Letter, type Schemas } from "../api/client";
import { queryClient } from "../api/queries";
import { Mark } from "../ui/marks";
import { Empty, PageHead, says, Trouble } from "../ui/parts";
import { Time } from "../ui/time";
import { takeBack } from "./letters";
import { useRepairs } from "./repair-all";

type Report = Schemas["Repair"];
const verbs = { resend: "resent", discard: "discarded", again: "sent again" } as const;

/** What has become of a repair, in a few words. */
function Outcomes({ of }: { of: Report }) {
  return (
    <span className="flex flex-wrap gap-x-3">
      {of.waits > 0 && <span className="text-quiet">{of.waits} to go</span>}
      {Object.entries(of.outcomes).map(([state, n]) => (
        <span key={state} className="flex items-center gap-1">
          <Mark state={state} />
          {n} {state === "dead letter" ? "dead again" : state}
        </span>
      ))}
      {of.refused > 0 && <span className="text-dead">{of.refused} refused</span>}
    </span>
  );
}

/** All that was decided about many, the latest first. */
export function RepairsPage() {
  const list = useRepairs();
  if (list.error) return <Trouble error={list.error} />;
  return (
    <>
      <PageHead title="Repairs" facts="decisions about many, and what has become of them">
        <Link className="btn" to="/dead-letters">
          Dead letters
        </Link>
      </PageHead>
      {list.data?.length === 0 ? (
        <Empty title="No repairs yet">
          <p>Choose a cause under Dead letters, say what is changed in all of them, and resend them at once.</p>
        </Empty>
      ) : (
        <div className="min-h-0 flex-1 overflow-auto p-4">
          <table className="grid-table">
            <thead>
              <tr>
                <th>What</th>
                <th>When, by whom</th>
                <th>How far</th>
                <th>What has become of them</th>
              </tr>
            </thead>
            <tbody>
              {list.data?.map((r) => (
                <tr key={r.id}>
                  <td>
                    <Link className="font-bold hover:underline" to={`/dead-letters/repairs/${r.id}`}>
                      {r.total} {verbs[r.what]}: {r.title}
                    </Link>
                  </td>
                  <td>
                    <Time at={r.at} withDate /> {r.by && <span className="text-quiet">by {r.by}</span>}
                  </td>
                  <td>{r.state}</td>
                  <td>
                    <Outcomes of={r} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  );
}

/** The report of one repair. */
export function RepairPage() {
  const { id = "" } = useParams();
  const report = useQuery({
    queryKey: ["dead-letters", "repairs", id],
    queryFn: () => get<Report>(`/api/v1/repairs/${id}`),
    refetchInterval: (q) =>
      q.state.data?.state === "running" || (q.state.data?.outcomes["under way"] ?? 0) > 0 ? 500 : false,
  });
  const items = useInfiniteQuery({
    queryKey: ["dead-letters", "repairs", id, "items"],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      get<Schemas["RepairItem"][]>(`/api/v1/repairs/${id}/items?limit=200&after=${pageParam}`),
    getNextPageParam: (last) => (last.length === 200 ? last.at(-1)?.n : undefined),
  });
  if (report.error) return <Trouble error={report.error} />;
  const r = report.data;
  if (!r) return <p className="p-6 text-quiet">Loading…</p>;
  const set = (what: "stop" | "resume") =>
    call(`/api/v1/repairs/${id}/${what}`, { method: "POST" }).then(
      () => queryClient.invalidateQueries({ queryKey: ["dead-letters"] }),
      (e) => toast.error(says(e)),
    );
  const gone = r.total - r.waits;
  const all = items.data?.pages.flat() ?? [];
  const discarded = all.filter((i) => i.state === "discarded" && i.letter).map((i) => i.letter as string);
  return (
    <>
      <PageHead title={`${r.total} ${verbs[r.what]}`} facts={r.title}>
        {r.what === "discard" && discarded.length > 0 && (
          <button type="button" className="btn" onClick={() => void takeBack(discarded)}>
            Take {discarded.length} back
          </button>
        )}
        {(r.state === "running" || r.state === "planned") && (
          <button type="button" className="btn" onClick={() => void set("stop")}>
            Stop
          </button>
        )}
        {(r.state === "stopped" || r.state === "planned") && r.waits > 0 && (
          <button type="button" className="btn btn-go" onClick={() => void set("resume")}>
            {r.state === "planned" ? "Begin now" : "Go on"}
          </button>
        )}
        <Link className="btn" to="/dead-letters/repairs">
          All repairs
        </Link>
      </PageHead>
      <div className="border-b border-line bg-sheet px-4 py-2" data-testid="report">
        <p className="mb-1">
          <b>{r.state}</b>, {gone} of {r.total} gone through
          {r.pace > 0 && `, ${r.pace} a second`}
          {r.beginAt && r.state === "planned" && (
            <>
              , begins <Time at={r.beginAt} withDate />
            </>
          )}
          {r.when && `, when ${r.when} answers`}
          {r.by && <span className="text-quiet"> · by {r.by}</span>}
        </p>
        <progress className="mb-1 w-full" aria-label="How far it is" max={r.total} value={gone} />
        <Outcomes of={r} />
      </div>
      <div className="min-h-0 flex-1 overflow-auto p-4">
        <table className="grid-table">
          <thead>
            <tr>
              <th>#</th>
              <th>Message</th>
              <th>What has become of it</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {all.map((i) => (
              <tr key={i.n}>
                <td className="tabular-nums">{i.n}</td>
                <td>
                  <Link className="data hover:underline" to={`/transactions/${i.made ?? i.transaction}`}>
                    {i.reference || i.transaction.slice(0, 13)}
                  </Link>
                </td>
                <td>
                  <span className="flex items-center gap-1.5">
                    <Mark state={i.state} />
                    {i.state === "dead letter" ? "a dead letter again" : i.state}
                  </span>
                </td>
                <td className="text-quiet">{i.detail}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {items.hasNextPage && (
          <button type="button" className="btn mt-3" onClick={() => void items.fetchNextPage()}>
            The next 200
          </button>
        )}
      </div>
    </>
  );
}

/** Letters that are not open any more, the latest first as far as they are kept. */
export function ClosedLettersPage() {
  const list = useInfiniteQuery({
    queryKey: ["dead-letters", "closed"],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      call<Letter[]>(`/api/v1/dead-letters?state=discarded&limit=200${pageParam ? `&after=${pageParam}` : ""}`),
    getNextPageParam: (last) => (last.value.length === 200 ? last.value.at(-1)?.id : undefined),
  });
  if (list.error) return <Trouble error={list.error} />;
  const all = list.data?.pages.flatMap((p) => p.value) ?? [];
  const total = list.data?.pages[0]?.total ?? 0;
  return (
    <>
      <PageHead title="Closed letters" facts={`${total} were discarded`}>
        <Link className="btn" to="/dead-letters">
          Dead letters
        </Link>
      </PageHead>
      {list.data && total === 0 && (
        <Empty title="Nothing was discarded">
          <p>What a person gives up stands here with who did it and why, and can be taken back for a day.</p>
        </Empty>
      )}
      <div className="min-h-0 flex-1 overflow-auto p-4">
        {all.length > 0 && (
          <table className="grid-table">
            <thead>
              <tr>
                <th>Message</th>
                <th>Flow, step</th>
                <th>What had failed</th>
                <th />
              </tr>
            </thead>
            <tbody>
              {all.map((l) => (
                <tr key={l.id}>
                  <td>
                    <Link className="data hover:underline" to={`/transactions/${l.transaction}`}>
                      {l.reference || l.id.slice(-8)}
                    </Link>
                  </td>
                  <td>
                    {l.flow} · {l.step || "intake"}
                  </td>
                  <td>{l.reason}</td>
                  <td>
                    <button type="button" className="btn" onClick={() => void takeBack([l.id])}>
                      Take back
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
        {list.hasNextPage && (
          <button type="button" className="btn mt-3" onClick={() => void list.fetchNextPage()}>
            The next 200
          </button>
        )}
      </div>
    </>
  );
}
