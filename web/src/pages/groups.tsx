import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { toast } from "sonner";
import { call, enc, type Group, get, type Schemas, type Turn } from "../api/client";
import { queryClient, useGroups } from "../api/queries";
import { Document } from "../ui/document";
import { says } from "../ui/parts";
import { number, span } from "../ui/time";
import { StoredRow } from "./stored";

const changed = () => queryClient.invalidateQueries({ queryKey: ["queues"] });

/** Open groups with what each waits for, and the numbers that are missing. */
export function GroupTable(p: {
  open: string;
  onOpen: (group: string) => void;
  title: (flow: string) => string;
  now: number;
}) {
  const go = useNavigate();
  const [limit, setLimit] = useState(100);
  const groups = useGroups(limit);
  const turns = useQuery({ queryKey: ["queues", "turns"], queryFn: () => get<Turn[]>("/api/v1/turns") });
  const close = async (g: Group) => {
    try {
      await call(`/api/v1/groups/${g.id}/close`, { method: "POST" });
      toast.success(`The group ${g.key} goes on with ${g.members}`, {
        action: { label: "Show", onClick: () => go(`/transactions/${g.id}`) },
      });
      await changed();
    } catch (e) {
      toast.error(says(e));
    }
  };
  const skip = async (t: Turn) => {
    try {
      await call("/api/v1/turns/skip", { body: { flow: t.flow, path: t.path, key: t.key } });
      toast.success(`${t.key} goes on without ${t.next}`);
      await changed();
    } catch (e) {
      toast.error(says(e));
    }
  };
  const until = (at: string) => {
    const left = new Date(at).getTime() - p.now;
    return <span title={at}>{left > 0 ? `in ${span(left)}` : "now"}</span>;
  };
  const list = groups.data?.groups ?? [];
  const flowOf = (flow: string, path: string) => (
    <button type="button" className="btn-bare" onClick={() => go(`/flows/${flow}`)}>
      {p.title(flow)} <span className="data font-normal">{path}</span>
    </button>
  );
  return (
    <>
      <table className="grid-table mt-4 table-fixed border-t border-line" aria-label="Open groups">
        <thead>
          <tr>
            <th className="w-[23%]">Open group: messages that wait for others</th>
            <th>Gathered by</th>
            <th className="w-[9%] !text-right">Members</th>
            <th className="w-[13%]">Waits for</th>
            <th className="w-[8%] !text-right">In a minute</th>
            <th className="w-[9%] !text-right">Age</th>
            <th className="w-[9%] !text-right">Closes</th>
            <th className="w-[15%]" />
          </tr>
        </thead>
        <tbody>
          {list.map((g) => (
            <tr key={g.id} data-group={g.key} aria-selected={g.id === p.open}>
              <td className="data truncate !font-bold" title={g.key}>
                {g.key}
              </td>
              <td className="truncate">{flowOf(g.flow, g.path)}</td>
              <td className="text-right font-semibold">{number(g.members)}</td>
              <td className="truncate" title={g.missing.join(", ")}>
                {g.missing.join(", ") || <span className="text-quiet">time alone</span>}
              </td>
              <td className="text-right">{number(g.inPerMinute)}</td>
              <td className="text-right">
                <span title={g.openedAt}>{span(p.now - new Date(g.openedAt).getTime())}</span>
              </td>
              <td className="text-right">
                {g.closesAt ? until(g.closesAt) : <span className="text-quiet">never by time</span>}
              </td>
              <td className="text-right">
                <button type="button" className="btn-bare mr-4" onClick={() => close(g)}>
                  close now
                </button>
                <button type="button" className="btn-bare" onClick={() => p.onOpen(g.id === p.open ? "" : g.id)}>
                  {g.id === p.open ? "close" : "look inside"}
                </button>
              </td>
            </tr>
          ))}
          {list.length === 0 && (
            <tr>
              <td colSpan={8} className="text-quiet">
                no open group
              </td>
            </tr>
          )}
        </tbody>
      </table>
      {(groups.data?.total ?? 0) > list.length && (
        <p className="px-3 py-2 text-quiet">
          {number(list.length)} of {number(groups.data?.total ?? 0)} are shown, the oldest first.{" "}
          {limit < 1000 && (
            <button type="button" className="btn-bare" onClick={() => setLimit(Math.min(1000, limit * 2))}>
              show more
            </button>
          )}
        </p>
      )}
      {(turns.data?.length ?? 0) > 0 && (
        <table className="grid-table mt-4 table-fixed border-t border-line" aria-label="Missing numbers">
          <thead>
            <tr>
              <th className="w-[23%]">Missing number: messages that wait for their turn</th>
              <th>Put in order by</th>
              <th className="w-[9%] !text-right">Waiting</th>
              <th className="w-[19%]">Waits for</th>
              <th className="w-[9%]" />
              <th className="w-[9%] !text-right">Given up</th>
              <th className="w-[15%]" />
            </tr>
          </thead>
          <tbody>
            {turns.data?.map((t) => (
              <tr key={`${t.flow} ${t.path} ${t.key}`} data-turn={t.key}>
                <td className="data truncate !font-bold">{t.key}</td>
                <td className="truncate">{flowOf(t.flow, t.path)}</td>
                <td className="text-right font-semibold">{number(t.waiting)}</td>
                <td>number {t.next}</td>
                <td />
                <td className="text-right">{until(t.until)}</td>
                <td className="text-right">
                  <button type="button" className="btn-bare" onClick={() => skip(t)}>
                    go on without it
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

/** The members of a group, in the order in which they came. */
export function InsideGroup({ id }: { id: string }) {
  const go = useNavigate();
  const [limit, setLimit] = useState(50);
  const members = useQuery({
    queryKey: ["queues", "group", id, limit],
    placeholderData: keepPreviousData,
    queryFn: () => get<Schemas["Member"][]>(`/api/v1/groups/${enc(id)}/members?limit=${limit}`),
  });
  return (
    <section aria-label="Members of the group" className="flex h-[46%] shrink-0 flex-col border-t-2 border-deep">
      <h2 className="pane-head">
        Members <span className="font-normal text-quiet">in the order in which they came</span>
      </h2>
      <div className="min-h-0 flex-1 overflow-auto bg-sheet">
        {members.data?.map((m) => (
          <StoredRow
            key={m.n}
            n={m.n}
            reference={m.reference}
            at={m.at}
            link={{ text: "its transaction", transaction: m.transaction }}
          >
            {m.item ? (
              <Document body={m.item} />
            ) : (
              <p className="p-3 text-quiet">
                The group has closed; its items stand in{" "}
                <button type="button" className="btn-bare" onClick={() => go(`/transactions/${id}`)}>
                  its transaction
                </button>
                .
              </p>
            )}
          </StoredRow>
        ))}
        {members.data?.length === limit && limit < 500 && (
          <button type="button" className="btn-bare p-3" onClick={() => setLimit(Math.min(500, limit * 2))}>
            show more
          </button>
        )}
      </div>
    </section>
  );
}
