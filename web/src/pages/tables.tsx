import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { call, enc, type Imported } from "../api/client";
import { queryClient, useTables } from "../api/queries";
import { Dialog, Empty, PageHead, Select, Setting, Text, Trouble } from "../ui/parts";
import { number, Time } from "../ui/time";
import { OpenTable } from "./table";
import { type Definition, KeyFields, keysOf, RangeFields, UsedBy } from "./table-parts";

export default function TablesPage() {
  const tables = useTables();
  const [search, setSearch] = useSearchParams();
  const [making, setMaking] = useState(false);
  const open = search.get("open") ?? "";
  const chosen = tables.data?.find((t) => t.name === open);
  const go = useNavigate();
  if (chosen) return <OpenTable key={chosen.name} table={chosen} onClose={() => setSearch({})} />;
  return (
    <>
      <PageHead title="Tables" facts="reference data that flows look up in, and the keys that pair two systems">
        <button type="button" className="btn btn-go" onClick={() => setMaking(true)}>
          New table
        </button>
      </PageHead>
      {tables.error && <Trouble error={tables.error} />}
      <div className="min-h-0 flex-1 overflow-auto">
        {tables.data?.length === 0 ? (
          <Empty title="No table yet">
            <p>
              A table holds what messages do not say: the branch of a copy, the tariff for a weight, which key of one
              system is which key of another.{" "}
              <button type="button" className="btn-bare" onClick={() => setMaking(true)}>
                Make one from a CSV or JSON file
              </button>
              , then find its rows with a look-up step.
            </p>
          </Empty>
        ) : (
          <table className="grid-table">
            <thead>
              <tr>
                <th>Table</th>
                <th>Kind</th>
                <th>Keys</th>
                <th className="!text-right">Rows</th>
                <th className="!text-right">Version</th>
                <th>Changed</th>
                <th>Used by</th>
              </tr>
            </thead>
            <tbody>
              {tables.data?.map((t) => (
                <tr key={t.name} data-table={t.name}>
                  <td>
                    <button type="button" className="btn-bare" onClick={() => setSearch({ open: t.name })}>
                      {t.title}
                    </button>{" "}
                    {t.title !== t.name && <span className="data text-quiet">{t.name}</span>}
                  </td>
                  <td>{t.kind}</td>
                  <td className="data">{keysOf(t)}</td>
                  <td className="text-right">
                    {t.loading ? `${number(t.loading.done)} of ${number(t.loading.total)}…` : number(t.rows)}
                  </td>
                  <td className="text-right">{number(t.version)}</td>
                  <td>
                    <Time at={t.updatedAt} withDate />
                  </td>
                  <td>
                    <UsedBy table={t} go={(f) => go(`/flows/${f}`)} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
      {making && (
        <NewTable
          onClose={() => setMaking(false)}
          onMade={(n) => {
            setMaking(false);
            setSearch({ open: n });
          }}
        />
      )}
    </>
  );
}

/** Makes a table, from a file or empty. */
function NewTable({ onClose, onMade }: { onClose: () => void; onMade: (name: string) => void }) {
  const [d, setD] = useState<Definition>({ readyferry: "table/1", name: "" });
  const [file, setFile] = useState<{ name: string; text: string } | null>(null);
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const guess = useQuery({
    queryKey: ["guess", file?.name, file?.text.length],
    enabled: !!file,
    retry: false,
    queryFn: async () =>
      (
        await call<{ rows: number; document: Definition }>("/api/v1/tables/new/guess", {
          method: "POST",
          text: file?.text,
          headers: { "Content-Type": "text/plain" },
        })
      ).value,
  });
  const columns = guess.data?.document.columns ?? [];
  const cross = d.kind === "cross-reference";
  const key = d.keys ?? (cross ? [columns.slice(0, 1), columns.slice(1, 2)] : (guess.data?.document.keys ?? [[]]));
  const range = d.keys || d.range || cross ? d.range : guess.data?.document.range;
  const choose = async (f: File | undefined) => {
    if (!f) return;
    setFile({ name: f.name, text: await f.text() });
    if (!d.name)
      setD((x) => ({
        ...x,
        name: f.name
          .replace(/\.[^.]*$/, "")
          .replace(/[^A-Za-z0-9._-]+/g, "-")
          .replace(/^[^A-Za-z0-9]+/, ""),
      }));
  };
  const make = async () => {
    setBusy(true);
    setError(undefined);
    try {
      const kept = Object.fromEntries(
        Object.entries({
          ...d,
          columns: columns.length ? columns : undefined,
          keys: key.some((k) => k.length) || range ? key : undefined,
          range,
        }).filter(([, v]) => v !== undefined && v !== ""),
      );
      await call(`/api/v1/tables/${enc(d.name)}`, { method: "PUT", body: kept, headers: { "If-None-Match": "*" } });
      if (file) {
        try {
          await call<Imported>(`/api/v1/tables/${enc(d.name)}/import`, {
            method: "POST",
            text: file.text,
            headers: { "Content-Type": "text/plain" },
          });
        } catch (e) {
          await call(`/api/v1/tables/${enc(d.name)}`, { method: "DELETE" }).catch(() => {});
          throw e;
        }
      }
      await queryClient.invalidateQueries({ queryKey: ["tables"] });
      onMade(d.name);
    } catch (e) {
      setError(e);
    }
    setBusy(false);
  };
  return (
    <Dialog open onClose={onClose} title="New table">
      <Setting
        label="File"
        hint="CSV whose first row names the columns, or a JSON list of maps; or none for an empty table"
      >
        <input
          type="file"
          aria-label="File"
          accept=".csv,.json,.txt"
          className="field"
          onChange={(e) => choose(e.target.files?.[0])}
        />
      </Setting>
      {guess.error && <Trouble error={guess.error} />}
      <div className="flex gap-2">
        <Setting inline label="Name" hint="letters, digits, hyphens">
          <Text mono label="Name" value={d.name} onChange={(name) => setD({ ...d, name })} placeholder="branches" />
        </Setting>
        <Setting inline label="Title">
          <Text label="Title" value={d.title ?? ""} onChange={(title) => setD({ ...d, title: title || undefined })} />
        </Setting>
      </div>
      <Setting label="Kind">
        <Select
          label="Kind"
          value={d.kind ?? ""}
          onChange={(kind) => setD({ ...d, kind: kind || undefined, keys: undefined })}
          options={[
            ["", "reference: flows read it"],
            ["cross-reference", "cross-reference: it pairs keys of two systems, and flows write it"],
          ]}
        />
      </Setting>
      <KeyFields columns={columns} cross={cross} keys={key} onChange={(keys) => setD({ ...d, keys })} />
      {!cross && <RangeFields range={range} onChange={(r) => setD({ ...d, keys: key, range: r })} />}
      {error !== undefined && <Trouble error={error} />}
      <div className="mt-3 flex justify-end gap-2">
        <button type="button" className="btn" onClick={onClose}>
          Cancel
        </button>
        <button type="button" className="btn btn-go" disabled={!d.name || busy} onClick={make}>
          {busy ? "Loading…" : guess.data ? `Make it with ${number(guess.data.rows)} rows` : "Make it"}
        </button>
      </div>
    </Dialog>
  );
}
