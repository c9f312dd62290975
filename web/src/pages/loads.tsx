import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { call, enc, type Schemas } from "../api/client";
import { queryClient, useConnections } from "../api/queries";
import { Dialog, Select, Setting, says, Text, Trouble } from "../ui/parts";
import { number, Time } from "../ui/time";

type Load = Schemas["Load"];
const again = () => queryClient.invalidateQueries({ queryKey: ["loads"] });

/** Bulk loads into a flow: a file or a query, a dry count, then the messages. */
export function LoadsDialog({ flow, onClose }: { flow: string; onClose: () => void }) {
  const loads = useQuery({
    queryKey: ["loads", flow],
    refetchInterval: 2000,
    queryFn: () => call<Load[]>(`/api/v1/loads?flow=${enc(flow)}&limit=20`),
  });
  const connections = useConnections();
  const [format, setFormat] = useState("csv");
  const [file, setFile] = useState<File | null>(null);
  const [filter, setFilter] = useState("");
  const [connection, setConnection] = useState("");
  const [sql, setSQL] = useState("");
  const [key, setKey] = useState("id");
  const [begins, setBegins] = useState("");
  const [at, setAt] = useState("");
  const [cron, setCron] = useState("0 6 * * *");
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const databases = (connections.data ?? []).filter((c) => c.kind === "sql").map((c) => c.name);
  const query = format === "query";
  const add = async () => {
    setBusy(true);
    setError(undefined);
    try {
      const where = new URLSearchParams({
        flow,
        format,
        title: query ? `query of ${connection || databases[0]}` : (file?.name ?? "records"),
      });
      if (filter) where.set("filter", filter);
      if (begins === "at" && at) where.set("at", new Date(at).toISOString());
      if (begins === "cron" && query) {
        where.set("cron", cron);
        where.set("zone", Intl.DateTimeFormat().resolvedOptions().timeZone);
      }
      if (query) {
        where.set("connection", connection || (databases[0] ?? ""));
        where.set("key", key);
      }
      await call(`/api/v1/loads?${where}`, {
        method: "POST",
        text: query ? sql : await file?.text(),
        headers: { "Content-Type": query ? "application/sql" : "text/plain" },
      });
      setFile(null);
      await again();
    } catch (e) {
      setError(e);
    }
    setBusy(false);
  };
  const act = async (l: Load, what: string) => {
    try {
      await call(`/api/v1/loads/${l.id}/${what}`, { method: "POST" });
      await again();
    } catch (e) {
      toast.error(says(e));
    }
  };
  const list = loads.data?.value ?? [];
  return (
    <Dialog open wide onClose={onClose} title="Load in bulk">
      <p className="mb-3 text-quiet">
        Each record becomes one message of this flow. The records are counted first; nothing is loaded before you begin.
      </p>
      <div className="flex gap-2">
        <Setting inline label="Records come from">
          <Select
            label="Records come from"
            value={format}
            onChange={setFormat}
            options={[
              ["csv", "a CSV file"],
              ["jsonl", "a file of JSON lines"],
              ["query", "an SQL query"],
            ]}
          />
        </Setting>
        {query ? (
          <>
            <Setting inline label="Connection">
              <Select label="Connection" value={connection} onChange={setConnection} options={databases} />
            </Setting>
            <Setting inline label="In the order of" hint="a column that tells rows apart">
              <Text mono label="In the order of" value={key} onChange={setKey} />
            </Setting>
          </>
        ) : (
          <Setting inline label="File">
            <input
              type="file"
              aria-label="File"
              className="field"
              onChange={(e) => setFile(e.target.files?.[0] ?? null)}
            />
          </Setting>
        )}
      </div>
      {query && (
        <Setting label="Query">
          <textarea
            aria-label="Query"
            className="field data"
            rows={2}
            value={sql}
            placeholder="SELECT id, card, name FROM members"
            onChange={(e) => setSQL(e.target.value)}
          />
        </Setting>
      )}
      <Setting label="Only records for which" hint="a condition over record; all of them where it is empty">
        <Text
          mono
          label="Only records for which"
          value={filter}
          onChange={setFilter}
          placeholder='record.status == "active"'
        />
      </Setting>
      <div className="flex gap-2">
        <Setting inline label="Begins">
          <Select
            label="Begins"
            value={begins}
            onChange={setBegins}
            options={[
              ["", "when you say so"],
              ["at", "by itself at a time"],
              ...(query ? ([["cron", "again and again, behind where it stood"]] as [string, string][]) : []),
            ]}
          />
        </Setting>
        {begins === "at" && (
          <Setting inline label="At">
            <input
              type="datetime-local"
              aria-label="At"
              className="field"
              value={at}
              onChange={(e) => setAt(e.target.value)}
            />
          </Setting>
        )}
        {begins === "cron" && query && (
          <Setting inline label="Cron: minute hour day month weekday" hint="in the time zone of this browser">
            <Text mono label="Cron: minute hour day month weekday" value={cron} onChange={setCron} />
          </Setting>
        )}
      </div>
      {error !== undefined && <Trouble error={error} />}
      <button
        type="button"
        className="btn btn-go"
        disabled={busy || (begins === "at" && !at) || (query ? !sql || databases.length === 0 : !file)}
        onClick={add}
      >
        {busy ? "Reading…" : "Count them"}
      </button>
      <div className="mt-4 max-h-[34vh] overflow-auto">
        {(loads.data?.total ?? 0) > list.length && (
          <p className="mb-1 text-quiet">
            the last {number(list.length)} of {number(loads.data?.total ?? 0)} loads
          </p>
        )}
        {list.length > 0 && (
          <table className="grid-table" aria-label="Loads">
            <thead>
              <tr>
                <th>Load</th>
                <th>State</th>
                <th className="w-[34%]">How far</th>
                <th />
              </tr>
            </thead>
            <tbody>
              {list.map((l) => (
                <tr key={l.id} data-load={l.state}>
                  <td>
                    {l.title}
                    <div className="text-quiet">
                      <Time at={l.createdAt} withDate />
                      {l.filter && <span className="chip ml-1">{l.filter}</span>}
                    </div>
                  </td>
                  <td>
                    {l.state}
                    {l.nextAt && l.state !== "stopped" && (
                      <div className="text-quiet">
                        {l.cron ? `${l.cron}, next ` : "begins "}
                        <Time at={l.nextAt} withDate />
                      </div>
                    )}
                  </td>
                  <td>
                    <Progress load={l} />
                    {l.error && <p className="text-dead">{l.error}</p>}
                  </td>
                  <td className="whitespace-nowrap text-right">
                    {actions[l.state]?.map(([what, title]) => (
                      <button key={what} type="button" className="btn-bare ml-3" onClick={() => act(l, what)}>
                        {title}
                      </button>
                    ))}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
    </Dialog>
  );
}

const actions: Record<string, [string, string][]> = {
  counting: [["stop", "stop"]],
  ready: [
    ["start", "load them"],
    ["stop", "give up"],
  ],
  scheduled: [
    ["start", "begin now"],
    ["stop", "give up"],
  ],
  running: [
    ["pause", "pause"],
    ["stop", "stop"],
  ],
  paused: [
    ["resume", "go on"],
    ["stop", "give up"],
  ],
  failed: [
    ["resume", "go on"],
    ["stop", "give up"],
  ],
};

function Progress({ load: l }: { load: Load }) {
  if (l.state === "counting" || l.state === "ready" || (l.state === "scheduled" && l.read === 0))
    return (
      <>
        {number(l.total)} records{l.filter && `, ${number(l.matching)} of them would be loaded`}
      </>
    );
  const share = l.total ? Math.min(1, l.read / l.total) : 0;
  return (
    <>
      <div
        className="mb-1 h-1.5 bg-line"
        role="progressbar"
        aria-label="Records read"
        aria-valuenow={Math.round(share * 100)}
      >
        <div className="h-full bg-deep" style={{ width: `${share * 100}%` }} />
      </div>
      {number(l.read)} of {number(l.total)} read, {number(l.taken)} loaded
      {l.skipped > 0 && `, ${number(l.skipped)} left out`}
      {l.refused > 0 && <span className="text-dead">, {number(l.refused)} dead letters</span>}
    </>
  );
}
