import { useInfiniteQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useEffect, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { toast } from "sonner";
import { call, enc, type Table } from "../api/client";
import { typing } from "../ui/keys";
import { PageHead, says, Text, Trouble } from "../ui/parts";
import { number } from "../ui/time";
import { changed, DefinitionDialog, LoadDialog, plain, VersionsDialog } from "./table-dialogs";
import { keysOf, rowsOf, UsedBy } from "./table-parts";

const page = 200;
type Row = { n: number; value: Record<string, unknown> };

/** What a person typed, in the kind that the value had before. */
function typed(text: string, before: unknown): unknown {
  if (typeof before === "number" && text.trim() !== "" && Number.isFinite(Number(text))) return Number(text);
  if (typeof before === "boolean" && (text === "true" || text === "false")) return text === "true";
  if (before === null && text === "") return null;
  return text;
}

/** Versions that undoing and doing again lead back to, the next one last. */
interface Past {
  undo: number[];
  redo: number[];
}

/** One table: its rows to edit, its versions, its definition. */
export function OpenTable({ table, onClose }: { table: Table; onClose: () => void }) {
  const go = useNavigate();
  const [find, setFind] = useState("");
  const [pane, setPane] = useState<"" | "load" | "versions" | "definition">("");
  const [past, setPast] = useState<Past>({ undo: [], redo: [] });
  // What is done, is done one behind the other: each knows what the one before it came to.
  const turn = useRef<Promise<unknown>>(Promise.resolve());
  const is = useRef({ past, version: table.version });
  is.current.version = Math.max(is.current.version, table.version);
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
  const passed = (past: Past) => {
    is.current.past = past;
    setPast(past);
  };
  const after = (before: number) => passed({ undo: [...is.current.past.undo, before], redo: [] });
  const did = (work: () => Promise<void>): Promise<boolean> => {
    const mine = turn.current.then(async () => {
      try {
        await work();
        await changed();
        return true;
      } catch (e) {
        toast.error(says(e));
        return false;
      }
    });
    turn.current = mine;
    return mine;
  };
  const edit = (edits: { row?: number; value: Record<string, unknown> | null }[]) =>
    did(async () => {
      const before = is.current.version;
      const { value } = await call<{ version: number }>(`/api/v1/tables/${enc(table.name)}/edit`, {
        body: { edits },
        headers: { "If-Match": `"${before}"` },
      });
      is.current.version = value.version;
      after(before);
    });
  const back = (from: keyof Past, into: keyof Past) =>
    did(async () => {
      const to = is.current.past[from].at(-1);
      if (to === undefined) return;
      const now = is.current.version;
      const { value } = await call<{ version: number }>(`/api/v1/tables/${enc(table.name)}/versions/${to}/restore`, {
        method: "POST",
      });
      is.current.version = value.version;
      const past = is.current.past;
      passed({ ...past, [from]: past[from].slice(0, -1), [into]: [...past[into], now] });
    });
  const undoIt = () => back("undo", "redo");
  const redoIt = () => back("redo", "undo");
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
        <button type="button" className="btn" disabled={past.undo.length === 0} onClick={undoIt}>
          Undo
        </button>
        <button type="button" className="btn" disabled={past.redo.length === 0} onClick={redoIt}>
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
            after(before);
            setPane("");
          }}
        />
      )}
      {pane === "versions" && <VersionsDialog table={table} onClose={() => setPane("")} onRestored={after} />}
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
