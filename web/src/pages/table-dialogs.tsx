import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { toast } from "sonner";
import { call, enc, get, type Imported, type Table, type TableChange } from "../api/client";
import { queryClient } from "../api/queries";
import { Dialog, Select, Setting, says, Text, Trouble } from "../ui/parts";
import { number, Time } from "../ui/time";
import { KeyFields, RangeFields } from "./table-parts";

type Row = { n: number; value: Record<string, unknown> };
export const changed = () => queryClient.invalidateQueries({ queryKey: ["tables"] });
export const plain = (v: unknown) =>
  v === undefined || v === null ? "" : typeof v === "object" ? JSON.stringify(v) : String(v);

/** Loads a file, with a preview of what it changes; it can be stopped. */
export function LoadDialog(p: { table: Table; onClose: () => void; onLoaded: (before: number) => void }) {
  const [file, setFile] = useState<{ name: string; text: string } | null>(null);
  const [mode, setMode] = useState("replace");
  const [stop, setStop] = useState<AbortController | null>(null);
  const [error, setError] = useState<unknown>();
  const send = async (preview: boolean, signal?: AbortSignal) =>
    (
      await call<Imported>(`/api/v1/tables/${enc(p.table.name)}/import?mode=${mode}&preview=${preview}`, {
        method: "POST",
        text: file?.text ?? "",
        headers: { "Content-Type": "text/plain" },
        signal,
      })
    ).value;
  const preview = useQuery({
    queryKey: ["preview", p.table.name, p.table.version, file?.name, file?.text.length, mode],
    enabled: !!file && !stop,
    retry: false,
    queryFn: ({ signal }) => send(true, signal),
  });
  const load = async () => {
    const s = new AbortController();
    setStop(s);
    setError(undefined);
    try {
      const out = await send(false, s.signal);
      await changed();
      toast.success(`${number(out.added + out.changed)} rows are loaded into ${p.table.title}`);
      p.onLoaded(p.table.version);
    } catch (e) {
      if (s.signal.aborted) toast.info("Stopped; the table is as it was");
      else setError(e);
    }
    setStop(null);
  };
  const c = preview.data;
  return (
    <Dialog open onClose={() => !stop && p.onClose()} title={`Load a file into ${p.table.title}`}>
      <Setting label="File" hint="CSV whose first row names the columns, or a JSON list of maps">
        <input
          type="file"
          aria-label="File"
          accept=".csv,.json,.txt"
          className="field"
          onChange={async (e) => {
            const f = e.target.files?.[0];
            if (f) setFile({ name: f.name, text: await f.text() });
          }}
        />
      </Setting>
      <Setting label="Rows whose key is not in the file">
        <Select
          label="Rows whose key is not in the file"
          value={mode}
          onChange={setMode}
          options={[
            ["replace", "go: the table becomes the file"],
            ["merge", "stay: the file is merged in"],
          ]}
        />
      </Setting>
      {preview.error && <Trouble error={preview.error} />}
      {c && !stop && (
        <p role="status">
          {number(c.rows)} rows: {number(c.added)} new, {number(c.changed)} changed, {number(c.removed)} go,{" "}
          {number(c.same)} are as they were.
        </p>
      )}
      {stop && (
        <p role="status" className="text-wait">
          {p.table.loading
            ? `${number(p.table.loading.done)} of ${number(p.table.loading.total)} rows are written`
            : "reading the file"}
          ; flows see the new rows all at once, at the end
        </p>
      )}
      {error !== undefined && <Trouble error={error} />}
      <div className="mt-3 flex justify-end gap-2">
        {stop ? (
          <button type="button" className="btn" onClick={() => stop.abort()}>
            Stop
          </button>
        ) : (
          <button type="button" className="btn" onClick={p.onClose}>
            Cancel
          </button>
        )}
        <button type="button" className="btn btn-go" disabled={!c || !!stop} onClick={load}>
          Load
        </button>
      </div>
    </Dialog>
  );
}

export function VersionsDialog(p: { table: Table; onClose: () => void; onRestored: (before: number) => void }) {
  const [chosen, setChosen] = useState(0);
  const list = useInfiniteQuery({
    queryKey: ["tables", p.table.name, "versions"],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      get<TableChange[]>(`/api/v1/tables/${enc(p.table.name)}/versions?limit=50&before=${pageParam}`),
    getNextPageParam: (last) => (last.length === 50 ? last.at(-1)?.version : undefined),
  });
  const inside = useQuery({
    queryKey: ["tables", p.table.name, "version", chosen],
    enabled: chosen > 0,
    queryFn: () => get<{ added: Row[]; removed: Row[] }>(`/api/v1/tables/${enc(p.table.name)}/versions/${chosen}`),
  });
  const restore = async (version: number) => {
    try {
      await call(`/api/v1/tables/${enc(p.table.name)}/versions/${version}/restore`, { method: "POST" });
      await changed();
      toast.success(`${p.table.title} is as it was in version ${version}`);
      p.onRestored(p.table.version);
    } catch (e) {
      toast.error(says(e));
    }
  };
  return (
    <Dialog open wide onClose={p.onClose} title={`Versions of ${p.table.title}`}>
      {list.error && <Trouble error={list.error} />}
      <div className="max-h-[60vh] overflow-auto">
        <table className="grid-table">
          <thead>
            <tr>
              <th className="!text-right">Version</th>
              <th>When</th>
              <th>What</th>
              <th>By</th>
              <th className="!text-right">Rows</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {list.data?.pages.flat().map((c) => (
              <tr key={c.version} aria-selected={c.version === chosen}>
                <td className="text-right font-semibold">{c.version}</td>
                <td>
                  <Time at={c.at} withDate />
                </td>
                <td>
                  {c.what} {c.detail}
                  {c.version === chosen && inside.data && (
                    <div className="data mt-1">
                      {inside.data.removed.map((r) => (
                        <p key={`-${r.n}`} className="text-dead">
                          − {JSON.stringify(r.value)}
                        </p>
                      ))}
                      {inside.data.added.map((r) => (
                        <p key={`+${r.n}`} className="text-done">
                          + {JSON.stringify(r.value)}
                        </p>
                      ))}
                    </div>
                  )}
                </td>
                <td>
                  {c.transaction ? (
                    <Link className="btn-bare" to={`/transactions/${c.transaction}`}>
                      {c.by}
                    </Link>
                  ) : (
                    c.by
                  )}
                </td>
                <td className="whitespace-nowrap text-right">
                  +{number(c.added)} −{number(c.removed)}
                </td>
                <td className="whitespace-nowrap text-right">
                  <button
                    type="button"
                    className="btn-bare mr-3"
                    onClick={() => setChosen(c.version === chosen ? 0 : c.version)}
                  >
                    {c.version === chosen ? "hide" : "show"}
                  </button>
                  {c.version !== p.table.version && (
                    <button type="button" className="btn-bare" onClick={() => restore(c.version)}>
                      back to this
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {list.hasNextPage && (
          <button type="button" className="btn-bare m-3" onClick={() => list.fetchNextPage()}>
            older versions
          </button>
        )}
      </div>
    </Dialog>
  );
}

export function DefinitionDialog(p: { table: Table; onClose: () => void; onDeleted: () => void }) {
  // biome-ignore lint/suspicious/noExplicitAny: the definition as the server has it
  const [d, setD] = useState<any>(p.table.document);
  const [error, setError] = useState<unknown>();
  const rows = Object.entries((d.default ?? {}) as Record<string, unknown>)
    .map(([k, v]) => `${k}=${plain(v)}`)
    .join(", ");
  const [standsIn, setStandsIn] = useState(rows);
  const save = async () => {
    setError(undefined);
    const kept = { ...d };
    const pairs = standsIn
      .split(",")
      .map((s) => s.split("="))
      .filter(([k]) => k?.trim());
    if (pairs.length) kept.default = Object.fromEntries(pairs.map(([k, ...v]) => [k?.trim(), v.join("=").trim()]));
    else delete kept.default;
    for (const k of ["title", "note", "range"]) if (!kept[k]) delete kept[k];
    try {
      await call(`/api/v1/tables/${enc(p.table.name)}`, {
        method: "PUT",
        body: kept,
        headers: { "If-Match": `"${p.table.version}"` },
      });
      await changed();
      p.onClose();
    } catch (e) {
      setError(e);
    }
  };
  const remove = async () => {
    try {
      await call(`/api/v1/tables/${enc(p.table.name)}`, { method: "DELETE" });
      p.onDeleted();
      await changed();
    } catch (e) {
      setError(e);
    }
  };
  const cross = d.kind === "cross-reference";
  return (
    <Dialog open onClose={p.onClose} title={`Definition of ${p.table.title}`}>
      <Setting label="Title">
        <Text label="Title" value={d.title ?? ""} onChange={(title) => setD({ ...d, title })} />
      </Setting>
      <Setting label="Note">
        <Text label="Note" value={d.note ?? ""} onChange={(note) => setD({ ...d, note })} />
      </Setting>
      <KeyFields
        columns={d.columns ?? []}
        cross={cross}
        keys={d.keys ?? [[]]}
        onChange={(keys) => setD({ ...d, keys })}
      />
      {!cross && <RangeFields range={d.range} onChange={(range) => setD({ ...d, range })} />}
      <Setting label="Default row" hint="column=value, …; what a look-up gets that asks for a default">
        <Text mono label="Default row" value={standsIn} onChange={setStandsIn} placeholder="run=0, name=unknown" />
      </Setting>
      <Setting inline label="Earlier versions are kept" hint="that stays which stood so long ago, and all behind it">
        <Select
          label="Earlier versions are kept"
          value={String(d.retain?.days ?? "")}
          onChange={(v) => {
            const { retain: _, ...rest } = d;
            setD(v ? { ...rest, retain: { days: v === "forever" ? v : Number(v) } } : rest);
          }}
          options={[
            ["", "as is usual: 30 days, forever in tables of earlier releases"],
            ["7", "7 days"],
            ["30", "30 days"],
            ["365", "a year"],
            ["forever", "forever"],
          ]}
        />
      </Setting>
      {error !== undefined && <Trouble error={error} />}
      <div className="mt-3 flex gap-2">
        <button type="button" className="btn" onClick={remove} title="its rows and versions go with it">
          Delete the table, its {number(p.table.rows)} rows and its versions
        </button>
        <span className="flex-1" />
        <button type="button" className="btn" onClick={p.onClose}>
          Cancel
        </button>
        <button type="button" className="btn btn-go" onClick={save}>
          Save
        </button>
      </div>
    </Dialog>
  );
}
