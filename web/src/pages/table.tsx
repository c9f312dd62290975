import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { toast } from "sonner";
import { call, enc, get, type Imported, type Table, type TableChange } from "../api/client";
import { queryClient } from "../api/queries";
import { typing } from "../app";
import { Dialog, PageHead, Select, Setting, says, Text, Trouble } from "../ui/parts";
import { number, Time } from "../ui/time";
import { KeyFields, keysOf, RangeFields, rowsOf, UsedBy } from "./tables";

const page = 200;
type Row = { n: number; value: Record<string, unknown> };
const changed = () => queryClient.invalidateQueries({ queryKey: ["tables"] });
const plain = (v: unknown) =>
  v === undefined || v === null ? "" : typeof v === "object" ? JSON.stringify(v) : String(v);

/** What a person typed, in the kind that the value had before. */
function typed(text: string, before: unknown): unknown {
  if (typeof before === "number" && text.trim() !== "" && Number.isFinite(Number(text))) return Number(text);
  if (typeof before === "boolean" && (text === "true" || text === "false")) return text === "true";
  if (before === null && text === "") return null;
  return text;
}

/** One table: its rows to edit, its versions, its definition. */
export function OpenTable({ table, onClose }: { table: Table; onClose: () => void }) {
  const go = useNavigate();
  const [find, setFind] = useState("");
  const [pane, setPane] = useState<"" | "load" | "versions" | "definition">("");
  const [undo, setUndo] = useState<number[]>([]);
  const [redo, setRedo] = useState<number[]>([]);
  const [draft, setDraft] = useState<Record<string, unknown> | null>(null);
  const scroller = useRef<HTMLDivElement>(null);
  const list = useInfiniteQuery({
    queryKey: ["tables", table.name, "rows", find],
    initialPageParam: 0,
    queryFn: ({ pageParam, signal }) =>
      rowsOf(table.name, `limit=${page}&after=${pageParam}&find=${enc(find)}`, signal),
    getNextPageParam: (last) => (last.rows.length === page ? last.rows.at(-1)?.place : undefined),
  });
  const rows = useMemo(() => list.data?.pages.flatMap((p) => p.rows) ?? [], [list.data]);
  const columns = list.data?.pages[0]?.columns ?? [];
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => 29,
    overscan: 12,
  });
  const items = virtual.getVirtualItems();
  const lastShown = items.at(-1)?.index ?? 0;
  useEffect(() => {
    if (lastShown > rows.length - 30 && list.hasNextPage && !list.isFetchingNextPage) list.fetchNextPage();
  }, [lastShown, rows.length, list]);
  const did = async (work: () => Promise<unknown>) => {
    try {
      await work();
      await changed();
      return true;
    } catch (e) {
      toast.error(says(e));
      return false;
    }
  };
  const edit = async (edits: { row?: number; value: Record<string, unknown> | null }[]) => {
    const before = table.version;
    const ok = await did(() =>
      call(`/api/v1/tables/${enc(table.name)}/edit`, { body: { edits }, headers: { "If-Match": `"${before}"` } }),
    );
    if (ok) {
      setUndo([...undo, before]);
      setRedo([]);
    }
    return ok;
  };
  const back = async (from: number[], into: number[], set: typeof setUndo, setOther: typeof setUndo) => {
    const version = from.at(-1);
    if (version === undefined) return;
    const now = table.version;
    if (await did(() => call(`/api/v1/tables/${enc(table.name)}/versions/${version}/restore`, { method: "POST" }))) {
      set(from.slice(0, -1));
      setOther([...into, now]);
    }
  };
  const undoIt = () => back(undo, redo, setUndo, setRedo);
  const redoIt = () => back(redo, undo, setRedo, setUndo);
  const keys = useRef({ undoIt, redoIt });
  keys.current = { undoIt, redoIt };
  useEffect(() => {
    const onKey = (e: globalThis.KeyboardEvent) => {
      if (!(e.ctrlKey || e.metaKey) || typing(e)) return;
      if (e.key === "z") keys.current.undoIt();
      if (e.key === "y") keys.current.redoIt();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);
  const grid = { gridTemplateColumns: `repeat(${Math.max(1, columns.length)}, minmax(110px, 1fr)) 64px` };
  return (
    <>
      <PageHead
        title={
          <>
            <button type="button" className="btn-bare" onClick={onClose}>
              Tables
            </button>{" "}
            / {table.title}
          </>
        }
        facts={
          <>
            {table.kind}, {number(table.rows)} rows, version {number(table.version)}; used by{" "}
            <UsedBy table={table} go={(f) => go(`/flows/${f}`)} />
          </>
        }
      >
        <button type="button" className="btn" disabled={undo.length === 0} onClick={undoIt}>
          Undo
        </button>
        <button type="button" className="btn" disabled={redo.length === 0} onClick={redoIt}>
          Redo
        </button>
        <button type="button" className="btn" onClick={() => setPane("versions")}>
          Versions
        </button>
        <button type="button" className="btn" onClick={() => setPane("definition")}>
          Definition
        </button>
        <a className="btn" href={`/api/v1/tables/${enc(table.name)}/export?format=csv`} download>
          Save as CSV
        </a>
        <button type="button" className="btn btn-go" onClick={() => setPane("load")}>
          Load a file
        </button>
      </PageHead>
      <div className="flex items-center gap-3 border-b border-line px-4 py-1.5">
        <div className="w-72">
          <Text label="Find rows" placeholder="find rows that hold…" value={find} onChange={setFind} />
        </div>
        <span className="data text-quiet">key {keysOf(table)}</span>
        <span className="flex-1" />
        {table.loading && (
          <span role="status" className="text-wait">
            {number(table.loading.done)} of {number(table.loading.total)} rows are written
          </span>
        )}
        <button type="button" className="btn-bare" disabled={columns.length === 0} onClick={() => setDraft({})}>
          + row
        </button>
      </div>
      {list.error && <Trouble error={list.error} />}
      <div
        ref={scroller}
        className="min-h-0 flex-1 overflow-auto"
        role="grid"
        aria-label="Rows"
        aria-rowcount={table.rows}
      >
        <div role="row" className="sticky top-0 z-10 grid border-b border-line bg-paper" style={grid}>
          {columns.map((c) => (
            <span key={c} role="columnheader" className="head data px-2 py-1.5">
              {c}
            </span>
          ))}
          <span role="columnheader" aria-label="Actions" />
        </div>
        {draft && (
          <NewRow
            columns={columns}
            grid={grid}
            onCancel={() => setDraft(null)}
            onAdd={async (value) => {
              if (await edit([{ value }])) setDraft(null);
            }}
          />
        )}
        <div className="relative" style={{ height: virtual.getTotalSize() }}>
          {items.map((v) => {
            const row = rows[v.index] as Row;
            return (
              <div
                key={row.n}
                role="row"
                aria-rowindex={v.index + 1}
                className="absolute grid w-full border-b border-line bg-sheet hover:bg-mark"
                style={{ ...grid, transform: `translateY(${v.start}px)`, height: 29 }}
              >
                {columns.map((c, i) => (
                  <Cell
                    key={c}
                    label={`${c}, row ${v.index + 1}`}
                    value={row.value[c]}
                    first={i === 0}
                    onSave={(value) => edit([{ row: row.n, value: { ...row.value, [c]: value } }])}
                  />
                ))}
                <span role="gridcell">
                  <button
                    type="button"
                    className="btn-bare text-left !text-quiet"
                    aria-label={`Remove row ${v.index + 1}`}
                    onClick={() => edit([{ row: row.n, value: null }])}
                  >
                    remove
                  </button>
                </span>
              </div>
            );
          })}
        </div>
        {list.data && rows.length === 0 && !draft && (
          <p className="p-4 text-quiet">
            {find ? "No row holds that." : "The table is empty: load a file, or add a row."}
          </p>
        )}
      </div>
      {pane === "load" && (
        <LoadDialog
          table={table}
          onClose={() => setPane("")}
          onLoaded={(before) => {
            setUndo([...undo, before]);
            setRedo([]);
            setPane("");
          }}
        />
      )}
      {pane === "versions" && (
        <VersionsDialog
          table={table}
          onClose={() => setPane("")}
          onRestored={(before) => {
            setUndo([...undo, before]);
            setRedo([]);
          }}
        />
      )}
      {pane === "definition" && <DefinitionDialog table={table} onClose={() => setPane("")} onDeleted={onClose} />}
    </>
  );
}

function Cell(p: { label: string; value: unknown; first: boolean; onSave: (v: unknown) => Promise<boolean> }) {
  const [text, setText] = useState<string | null>(null);
  const save = async () => {
    if (text === null) return;
    if (text !== plain(p.value)) await p.onSave(typed(text, p.value));
    setText(null);
  };
  const onKey = (e: KeyboardEvent<HTMLInputElement>) => {
    if (e.key === "Enter") (e.target as HTMLInputElement).blur();
    if (e.key === "ArrowDown" || e.key === "ArrowUp") {
      const at = / row (\d+)$/.exec(p.label);
      const next = Number(at?.[1] ?? 0) + (e.key === "ArrowDown" ? 1 : -1);
      const label = p.label.replace(/ row \d+$/, ` row ${next}`);
      const cell = document.querySelector<HTMLInputElement>(`[role=gridcell][aria-label=${JSON.stringify(label)}]`);
      if (cell) {
        e.preventDefault();
        cell.focus();
      }
    }
    if (e.key === "Escape") {
      setText(null);
      e.stopPropagation();
    }
  };
  return (
    <input
      role="gridcell"
      aria-label={p.label}
      className={`data w-full min-w-0 truncate bg-transparent px-2 outline-offset-[-2px] ${p.first ? "font-bold" : ""}`}
      value={text ?? plain(p.value)}
      onChange={(e) => setText(e.target.value)}
      onBlur={save}
      onKeyDown={onKey}
      spellCheck={false}
      autoComplete="off"
    />
  );
}

function NewRow(p: {
  columns: string[];
  grid: React.CSSProperties;
  onAdd: (value: Record<string, unknown>) => void;
  onCancel: () => void;
}) {
  const [value, setValue] = useState<Record<string, string>>({});
  return (
    <form
      className="grid border-b-2 border-buoy bg-sheet"
      style={p.grid}
      aria-label="New row"
      onSubmit={(e) => {
        e.preventDefault();
        p.onAdd(value);
      }}
      onKeyDown={(e) => e.key === "Escape" && p.onCancel()}
    >
      {p.columns.map((c, i) => (
        <input
          key={c}
          // biome-ignore lint/a11y/noAutofocus: the row was just asked for
          autoFocus={i === 0}
          aria-label={`${c}, new row`}
          placeholder={c}
          className="data w-full min-w-0 bg-transparent px-2 py-1"
          value={value[c] ?? ""}
          onChange={(e) => setValue({ ...value, [c]: e.target.value })}
        />
      ))}
      <button type="submit" className="btn-bare text-left">
        add
      </button>
    </form>
  );
}

/** Loads a file, with a preview of what it changes; it can be stopped. */
function LoadDialog(p: { table: Table; onClose: () => void; onLoaded: (before: number) => void }) {
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

function VersionsDialog(p: { table: Table; onClose: () => void; onRestored: (before: number) => void }) {
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

function DefinitionDialog(p: { table: Table; onClose: () => void; onDeleted: () => void }) {
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
