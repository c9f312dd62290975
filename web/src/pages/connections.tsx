import { useEffect, useState } from "react";
import { Link } from "react-router";
import { toast } from "sonner";
import type { Connection } from "../api/client";
import { useConnections, useRunners } from "../api/queries";
import { useMay } from "../api/session";
import { type System, useSystems } from "../systems";
import { begin, type Value } from "../systems/schema";
import { useAddress } from "../ui/address";
import { Mark } from "../ui/marks";
import { Empty, PageHead, Text, Trouble } from "../ui/parts";
import { age, number, useNow } from "../ui/time";
import { ConnectionDesk } from "./connection-desk";
import { Runners, runnerSays } from "./runners";

export default function ConnectionsPage() {
  const connections = useConnections();
  const systems = useSystems();
  const [search, setSearch] = useAddress();
  const [filter, setFilter] = useState("");
  const may = useMay();
  const open = search.get("open") ?? "";
  const chosen = connections.data?.find((c) => c.name === open);
  const fresh = open.startsWith("+") ? systems.data?.find((s) => s.kind === open.slice(1)) : undefined;
  const system = fresh ?? systems.data?.find((s) => s.kind === chosen?.kind);
  const ill = connections.data?.filter((c) => c.condition.is === "refuses" || c.condition.is === "silent").length ?? 0;
  // Where a sign-in by a person came back from says how it went.
  const said = search.get("said");
  useEffect(() => {
    if (!said) return;
    if (said === "signed in") toast.success(said);
    else toast.error(said);
    setSearch({ open }, { replace: true });
  }, [said, open, setSearch]);
  const shown = connections.data?.filter((c) => fits(c, filter));
  return (
    <>
      <PageHead
        title="Connections"
        facts={
          connections.data?.length
            ? `${connections.data.length} systems, ${ill === 0 ? "none" : ill} ${ill > 1 ? "are" : "is"} in trouble`
            : "outside systems, set up once and used by many flows"
        }
      >
        <div className="w-44">
          <Text label="Filter connections" placeholder="Filter connections" value={filter} onChange={setFilter} />
        </div>
        {may("own", true) && (
          <Link className="btn" to="/keys">
            Keys for programs
          </Link>
        )}
        {(may("publish") ? (systems.data ?? []) : [])
          .filter((s) => !s.reached)
          .map((s) => (
            <button key={s.kind} type="button" className="btn" onClick={() => setSearch({ open: `+${s.kind}` })}>
              Let somebody call
            </button>
          ))}
        {may("publish") && (
          <button type="button" className="btn btn-go" onClick={() => setSearch({ open: "+" })}>
            Connect a system
          </button>
        )}
      </PageHead>
      {connections.error && <Trouble error={connections.error} />}
      {connections.data?.length === 0 && open === "" && (
        <Empty title="No connection yet">
          <p>Deliveries need a system to go to: its address, how to sign in, and how much it can take.</p>
        </Empty>
      )}
      {shown && connections.data && connections.data.length > 0 && (
        <div className={`overflow-auto ${open ? "max-h-[38%] shrink-0" : "min-h-0 flex-1"}`}>
          <List
            connections={shown}
            systems={systems.data ?? []}
            open={open}
            onOpen={(name) => setSearch(name === open ? {} : { open: name })}
          />
          {shown.length === 0 && <p className="p-4 text-quiet">No connection has that in it.</p>}
        </div>
      )}
      {open === "" && <Runners />}
      {open === "+" && <Choice systems={systems.data ?? []} onChoose={(kind) => setSearch({ open: `+${kind}` })} />}
      {system && (chosen || fresh) && (
        <ConnectionDesk
          key={chosen ? chosen.name + chosen.updatedAt : open}
          system={system}
          connection={chosen}
          doc={(chosen?.document as Value) ?? { ...begin(system.connection), readyferry: "connection/1", name: "" }}
          onDone={(n) => setSearch(n ? { open: n } : {})}
        />
      )}
    </>
  );
}

const words = (c: Connection) =>
  c.document as { title?: string; address?: string; at?: string; "sign-in"?: { kind?: string } };

const fits = (c: Connection, filter: string) =>
  [c.name, c.kind, words(c).title, words(c).address, words(c).at, c.condition.error, ...c.usedBy].some((text) =>
    text?.toLowerCase().includes(filter.toLowerCase()),
  );

function List(p: { connections: Connection[]; systems: System[]; open: string; onOpen: (name: string) => void }) {
  return (
    <table className="grid-table table-fixed">
      <thead>
        <tr>
          <th className="w-[17%]">System</th>
          <th className="w-[22%]">What it is</th>
          <th>How it is</th>
          <th className="w-[100px] !text-right">In, a minute</th>
          <th className="w-[110px] !text-right">Out, a minute</th>
          <th className="w-[20%]">Used by</th>
        </tr>
      </thead>
      <tbody>
        {p.connections.map((c) => (
          <tr
            key={c.name}
            aria-selected={c.name === p.open}
            className="cursor-pointer"
            onClick={() => p.onOpen(c.name)}
          >
            <td>
              <button
                type="button"
                className="block w-full truncate text-left font-bold"
                title={c.name}
                aria-label={`${words(c).title || c.name} ${c.name}`}
                ref={c.name === p.open ? (el) => el?.scrollIntoView({ block: "center" }) : undefined}
                onClick={(e) => {
                  e.stopPropagation();
                  p.onOpen(c.name);
                }}
              >
                {words(c).title || c.name}
              </button>
            </td>
            <td className="truncate" title={words(c).address}>
              {p.systems.find((s) => s.kind === c.kind)?.title ?? c.kind} {words(c).at && `at ${words(c).at} `}
              <span className="data text-quiet">{words(c).address}</span>
            </td>
            <td>
              <How c={c} />
            </td>
            <td className="text-right">{number(c.condition.in)}</td>
            <td className="text-right">{number(c.condition.out)}</td>
            <td className="truncate">
              {c.usedBy.map((flow, i) => (
                <span key={flow}>
                  {i > 0 && ", "}
                  <Link
                    className="underline"
                    to={`/flows/${encodeURIComponent(flow)}`}
                    onClick={(e) => e.stopPropagation()}
                  >
                    {flow}
                  </Link>
                </span>
              ))}
              {c.usedBy.length === 0 && <span className="text-quiet">no live flow</span>}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** How a connection is, in words. */
export function How({ c }: { c: Connection }) {
  const now = useNow();
  const runner = useRunners().data?.find((r) => r.name === words(c).at);
  const k = c.condition;
  const since = k.since ? age(now - new Date(k.since).getTime()) : "";
  const behind = Object.values(k.backlog).reduce((all, n) => all + n, 0);
  const wait = c.waiting > 0 ? `, ${number(c.waiting)} wait` : "";
  const mark = k.is === "works" ? "delivered" : k.is === "refuses" ? "dead letter" : k.is === "silent" ? "waiting" : "";
  const said =
    runner && !runner.there
      ? `the runner ${runner.name} is ${runnerSays(runner, now)}${wait}`
      : k.is === "works"
        ? `works for ${since}${behind ? `, ${number(behind)} behind` : ""}${wait}`
        : k.is === "refuses"
          ? `refused: ${k.error.replace(new RegExp(`^${c.name}:? `), "")}${wait}`
          : k.is === "silent"
            ? `answers nobody for ${since}${wait}`
            : c.kind === "caller"
              ? "calls us"
              : `not tried since the start${wait}`;
  const tone = { works: "", refuses: "text-dead", silent: "text-wait", "": "text-quiet" }[k.is];
  return (
    <span className={`flex items-center gap-1.5 ${tone}`}>
      <Mark state={mark} />
      <span className="min-w-0 truncate" title={said}>
        {said}
      </span>
    </span>
  );
}

/** Which kind of system is to be connected. */
export function Choice({ systems, onChoose }: { systems: System[]; onChoose: (kind: string) => void }) {
  return (
    <div className="overflow-auto border-t-2 border-deep p-4">
      <h2 className="mb-3 text-[16px]">What kind of system is it?</h2>
      <div className="grid grid-cols-2 gap-x-3">
        {systems
          .filter((s) => s.reached)
          .map((s) => (
            <button
              key={s.kind}
              type="button"
              className="mb-2 block w-full border border-line bg-sheet px-3 py-2 text-left hover:border-deep"
              onClick={() => onChoose(s.kind)}
            >
              <span className="font-bold">{s.title}</span>
              <span className="block text-quiet">{s.summary}</span>
            </button>
          ))}
      </div>
    </div>
  );
}
