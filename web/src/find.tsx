import { Command } from "cmdk";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { enc, get, type Transaction } from "./api/client";
import { useConnections, useFlows, useStandIns, useTables } from "./api/queries";
import { StateWord } from "./ui/marks";

const row = "flex items-center gap-3 px-3 py-1.5 data-[selected=true]:bg-mark cursor-pointer";

/** Finds flows, connections, stand-ins, pages, and transactions by reference or id. */
export function Find({ open, onClose }: { open: boolean; onClose: () => void }) {
  const go = useNavigate();
  const flows = useFlows();
  const connections = useConnections();
  const standIns = useStandIns();
  const tables = useTables();
  const [text, setText] = useState("");
  const [hits, setHits] = useState<Transaction[]>([]);
  useEffect(() => {
    setHits([]);
    const wanted = text.trim();
    if (wanted.length < 3) return;
    const stop = new AbortController();
    const t = setTimeout(async () => {
      const byReference = await get<Transaction[]>(
        `/api/v1/transactions?limit=8&reference=${enc(wanted)}`,
        stop.signal,
      ).catch(() => []);
      const byId = /^[0-9a-f-]{36}$/.test(wanted)
        ? await get<Transaction>(`/api/v1/transactions/${wanted}`, stop.signal)
            .then((t) => [t])
            .catch(() => [])
        : [];
      if (!stop.signal.aborted) setHits([...byReference, ...byId]);
    }, 150);
    return () => {
      clearTimeout(t);
      stop.abort();
    };
  }, [text]);
  const open_ = (to: string) => {
    onClose();
    setText("");
    go(to);
  };
  return (
    <Command.Dialog
      open={open}
      onOpenChange={(o) => !o && onClose()}
      label="Find anything"
      overlayClassName="overlay"
      contentClassName="dialog !p-0"
    >
      <Command.Input
        value={text}
        onValueChange={setText}
        placeholder="A flow, a reference such as HR-20811, a connection, a command, a page"
        className="w-full border-b border-line bg-sheet px-3 py-2.5 outline-none"
      />
      <Command.List className="max-h-[50vh] overflow-auto py-1">
        <Command.Empty className="px-3 py-2 text-quiet">
          Nothing of that name. Transactions are found by their whole reference or id.
        </Command.Empty>
        {hits.map((t) => (
          <Command.Item
            key={t.id}
            value={`${t.reference} ${t.id}`}
            className={row}
            onSelect={() => open_(`/transactions/${t.id}`)}
          >
            <b className="data">{t.reference || t.id}</b>
            <StateWord state={t.state} />
            <span className="text-quiet">transaction of {t.flow}</span>
          </Command.Item>
        ))}
        {flows.data?.map((f) => (
          <Command.Item
            key={f.name}
            value={`flow ${f.title} ${f.name}`}
            className={row}
            onSelect={() => open_(`/flows/${f.name}`)}
          >
            <b>{f.title}</b>
            <span className="text-quiet">flow</span>
          </Command.Item>
        ))}
        {connections.data?.map((c) => (
          <Command.Item
            key={c.name}
            value={`connection ${c.name}`}
            className={row}
            onSelect={() => open_(`/connections?open=${c.name}`)}
          >
            <b>{c.name}</b>
            <span className="text-quiet">connection</span>
          </Command.Item>
        ))}
        {tables.data?.map((t) => (
          <Command.Item
            key={t.name}
            value={`table ${t.title} ${t.name}`}
            className={row}
            onSelect={() => open_(`/tables?open=${t.name}`)}
          >
            <b>{t.title}</b>
            <span className="text-quiet">table</span>
          </Command.Item>
        ))}
        {standIns.data?.map((s) => (
          <Command.Item
            key={s.name}
            value={`stand-in ${s.title} ${s.name}`}
            className={row}
            onSelect={() => open_(`/stand-ins?open=${s.name}`)}
          >
            <b>{s.title}</b>
            <span className="text-quiet">stand-in</span>
          </Command.Item>
        ))}
        {(
          [
            ["Start a flow", "/flows?start=flow"],
            ["Connect a system", "/connections?open=%2Bhttp"],
            ["Let somebody call", "/connections?open=%2Bcaller"],
          ] as const
        ).map(([title, to]) => (
          <Command.Item key={to} value={`command ${title}`} className={row} onSelect={() => open_(to)}>
            <b>{title}</b>
            <span className="text-quiet">command</span>
          </Command.Item>
        ))}
        {["Flows", "Transactions", "Dead letters", "Queues", "Connections", "Stand-ins", "Alarms", "Log", "Help"].map(
          (p) => (
            <Command.Item
              key={p}
              value={`page ${p}`}
              className={row}
              onSelect={() => open_(`/${p.toLowerCase().replace(" ", "-")}`)}
            >
              <b>{p}</b>
              <span className="text-quiet">page</span>
            </Command.Item>
          ),
        )}
      </Command.List>
    </Command.Dialog>
  );
}
