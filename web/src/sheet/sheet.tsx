import { type CSSProperties, type KeyboardEvent, memo, type ReactNode, useEffect, useRef } from "react";
import type { Finding } from "../api/client";
import type { Cell, FlowDocument, Row, Told } from "../model/model";
import { Sentence } from "../steps";
import { Divider } from "../ui/divider";
import { useKept } from "../ui/kept";
import { typing } from "../ui/keys";
import { Mark } from "../ui/marks";
import { type Drag, useDrag } from "./drag";
import { foldedCell } from "./folds";
import { rowHigh, useInSight, useWindowed, within } from "./windowed";

export type Column<R extends Told = Told> = {
  key: string;
  title: ReactNode;
  sub?: ReactNode;
  rehearsal: R | undefined;
};
export type Focus = { row: number; column: number };

/** A key that is pressed in the sheet, or where nothing else takes it. */
export type Key = Pick<KeyboardEvent, "key" | "altKey" | "ctrlKey" | "metaKey" | "shiftKey" | "preventDefault"> & {
  target?: EventTarget | null;
};

type Props = {
  doc: FlowDocument;
  rows: Row[];
  columns: Column[];
  focus: Focus;
  /** extend: what was chosen stays so, and the row comes to it; byKey: an arrow has moved it, which may be held. */
  onFocus: (f: Focus, extend?: boolean, byKey?: boolean) => void;
  findings?: Finding[];
  /** Keys that the sheet does not use itself. */
  onKey?: (e: Key) => void;
  onOpen?: () => void;
  /** Tells which columns are in sight, the first and the last. */
  onSeen?: (first: number, last: number) => void;
  /** A lane to the right of the columns, one cell per row. */
  lane?: { head: ReactNode; cell: (row: Row) => ReactNode; width: string };
  last?: ReactNode;
  intakeText: ReactNode;
  label: string;
  stepsHead?: ReactNode;
  /** Rows that are chosen together, by key, and what a click on a row's number does. */
  chosen?: ReadonlySet<string>;
  onChoose?: (row: number, how: "one" | "more" | "through") => void;
  /** What is folded into a row, and whether something could be. */
  folded?: ReadonlyMap<string, Row[]>;
  foldable?: (row: Row) => boolean;
  onFold?: (row: Row) => void;
  drag?: Drag;
  /** What stands below the rows, where there are few. */
  below?: ReactNode;
  /** Keys of rows that no sample comes to. */
  unreached?: ReadonlySet<string>;
};

/** Steps are rows, messages are columns, a cell says what the one did to the other. */
export function Sheet(p: Props) {
  const body = useRef<HTMLDivElement>(null);
  const { dropping, grab } = useDrag(body, p.drag);
  const active = `cell-${p.focus.row}-${p.focus.column}`;
  const [wide, setWide] = useKept("steps-wide", 0);
  // What stands fast must not cover the cell that is looked at.
  useEffect(() => {
    const sheet = body.current;
    const [head, steps] = [sheet?.querySelector("[data-head]"), sheet?.querySelector("[data-steps]")];
    if (!sheet || !head || !steps) return;
    const right = numbers + (steps as HTMLElement).offsetWidth;
    // Where little is left beside the steps, they give way to the cell.
    sheet.style.scrollPadding = `${(head as HTMLElement).offsetHeight}px 8px 8px ${right}px`;
    sheet.querySelector(`#${active}`)?.scrollIntoView({ block: "nearest", inline: "nearest" });
  }, [active]);
  // A row looks chosen from the first moment on, so keys go to it from the first moment on.
  const elsewhere = useRef<(e: globalThis.KeyboardEvent) => void>(() => {});
  useEffect(() => {
    const listen = (e: globalThis.KeyboardEvent) => elsewhere.current(e);
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
  const seen = useWindowed(body, p.rows.length, p.columns.length);
  useInSight(body, p.columns.length, p.onSeen);
  // Where not all is drawn, each stands where it would if all were.
  const at = (row: number, column: number) => (seen.large ? { gridRow: row + 1, gridColumn: column + 1 } : undefined);
  const onKeyDown = (e: Key) => {
    const { row, column } = p.focus;
    const go = (r: number, c: number) => {
      e.preventDefault();
      const to = {
        row: Math.max(0, Math.min(p.rows.length - 1, r)),
        column: Math.max(0, Math.min(p.columns.length - 1, c)),
      };
      p.onFocus(to, e.shiftKey && to.row !== row, true);
    };
    if (e.key === "Enter" && (e.target as Element | undefined)?.closest?.("button, a")) return; // it does what it says
    if (!e.altKey && !e.ctrlKey && !e.metaKey) {
      if (e.key === "ArrowDown") return go(row + 1, column);
      if (e.key === "ArrowUp") return go(row - 1, column);
      if (e.key === "ArrowRight") return go(row, column + 1);
      if (e.key === "ArrowLeft") return go(row, column - 1);
      if (e.key === "Home") return go(0, column);
      if (e.key === "End") return go(p.rows.length - 1, column);
      if (e.key === "Enter" && p.onOpen) {
        e.preventDefault();
        return p.onOpen();
      }
    }
    p.onKey?.(e);
  };
  elsewhere.current = (e) => {
    const at = e.target as Element | null;
    if (e.defaultPrevented || typing(e) || body.current?.contains(at) || at?.closest("[role=menu]")) return;
    if (at === document.body) onKeyDown(e);
    else if (!at?.closest("main") || at.closest("header")) p.onKey?.(e); // of a button of the page's head, say
  };
  // The words of a step get what the cells, which hold a word or two, leave; of many, cells are alike.
  const cell = p.columns.length > 12 ? "minmax(108px, 1fr)" : "fit-content(210px)";
  const columns = [
    `${numbers}px ${wide ? `${wide}px` : "minmax(min(390px, 50vw), 1fr)"}`,
    p.columns.length > 0 && `repeat(${p.columns.length}, ${cell})`, // of none there is no such grid
    p.lane?.width,
    p.last && "78px",
  ]
    .filter(Boolean)
    .join(" ");
  return (
    <div
      ref={body}
      role="grid"
      aria-label={p.label}
      aria-activedescendant={active}
      tabIndex={0}
      onKeyDown={onKeyDown}
      onClick={(e) => {
        const at = cellAt(e.target);
        if (at) p.onFocus(at);
      }}
      onDoubleClick={(e) => cellAt(e.target) && p.onOpen?.()}
      className="grid min-h-0 flex-1 auto-rows-min overflow-auto outline-offset-[-2px]"
      style={{
        gridTemplateColumns: columns,
        gridTemplateRows: seen.large ? `auto repeat(${p.rows.length}, ${rowHigh}px)` : undefined,
      }}
      aria-rowcount={p.rows.length + 1}
      aria-colcount={p.columns.length + 2}
      data-testid="sheet"
    >
      <div role="row" className="contents">
        <Head left="left-0" style={at(0, 0)} />
        <Head left="left-[34px]" steps style={at(0, 1)}>
          {p.stepsHead ?? "Steps"}
          <Divider
            label="Width of the steps"
            across="columns"
            value={wide || (body.current?.querySelector<HTMLElement>("[data-steps]")?.offsetWidth ?? 390)}
            min={160}
            max={1400}
            onChange={setWide}
            onToggle={() => setWide(0)}
            className="absolute inset-y-0 -right-1 w-2"
          />
        </Head>
        {p.columns.map(
          (c, j) =>
            (within(seen.columns, j) || j === p.focus.column) && (
              <Head key={c.key} cell style={at(0, j + 2)}>
                <div className="truncate font-bold text-ink">{c.title}</div>
                {c.sub && <div className="truncate font-normal">{c.sub}</div>}
              </Head>
            ),
        )}
        {p.lane && <Head style={at(0, p.columns.length + 2)}>{p.lane.head}</Head>}
        {p.last && <Head style={at(0, p.columns.length + (p.lane ? 3 : 2))}>{p.last}</Head>}
      </div>
      {p.rows.map((row, i) => {
        const here = i === p.focus.row;
        const under = p.folded?.get(row.key);
        const chosen = p.chosen?.has(row.key) ?? false;
        const tone = here || chosen ? "bg-mark" : "bg-sheet";
        if (!here && !within(seen.rows, i)) return null;
        const wrong = p.findings?.filter((f) => belongs(row, f)) ?? [];
        const finding = wrong.find((f) => f.level === "error") ?? wrong[0];
        const select = () => p.onFocus({ row: i, column: p.focus.column });
        return (
          <div
            role="row"
            className="contents"
            key={`${row.kind}${row.key}`}
            data-path={row.key}
            aria-label={row.kind === "step" ? row.step.id : row.key || "intake"}
            aria-rowindex={i + 2}
            aria-selected={chosen || undefined}
            data-row={i}
          >
            <div
              role="rowheader"
              style={at(i + 1, 0)}
              onPointerDown={(e) => row.kind === "step" && grab(e, i)}
              onClick={(e) => p.onChoose?.(i, e.shiftKey ? "through" : e.ctrlKey || e.metaKey ? "more" : "one")}
              className={`sticky left-0 z-[5] border-b border-r border-line px-2 py-1 text-right text-[12px] text-quiet ${tone} ${chosen ? "!border-l-[3px] !border-l-buoy" : ""} ${p.drag && row.kind === "step" ? "cursor-grab touch-none select-none" : ""}`}
            >
              {row.n}
            </div>
            <div
              role="gridcell"
              tabIndex={-1}
              style={at(i + 1, 1)}
              onClick={select}
              className={`sticky left-[34px] z-[5] flex min-h-7 min-w-0 items-stretch border-b border-r border-line pr-2 ${tone} ${row.kind !== "intake" && row.off ? "opacity-45" : ""}`}
            >
              {dropping?.row === i && (
                <span
                  className="pointer-events-none absolute right-0 -bottom-px z-10 h-[3px] bg-buoy"
                  style={{ left: dropping.depth * 26 + 4 }}
                  data-testid="drop"
                />
              )}
              {Array.from({ length: row.depth }, (_, d) => (
                <span
                  key={d}
                  className={`ml-3 w-3.5 shrink-0 border-l-2 ${d === row.depth - 1 ? "border-buoy" : "border-line"}`}
                />
              ))}
              {p.onFold && (under || p.foldable?.(row)) && (
                <button
                  type="button"
                  tabIndex={-1}
                  className={`relative z-[1] w-4 shrink-0 self-center text-[11px] text-quiet hover:text-ink ${row.depth ? "-ml-3.5" : "-mr-2"}`}
                  aria-label={under ? `Unfold ${row.key}` : `Fold ${row.key}`}
                  aria-expanded={!under}
                  onClick={() => p.onFold?.(row)}
                >
                  {under ? "▸" : "▾"}
                </button>
              )}
              <span className={`min-w-0 self-center truncate py-1 ${row.depth ? "" : "pl-2"}`}>
                <RowText row={row} intake={p.intakeText} />
                {row.kind === "step" && row.step.off && <span className="text-quiet"> · switched off</span>}
                {row.kind === "step" && row.step.note && (
                  <span className="text-quiet" title={row.step.note}>
                    {" "}
                    ¶
                  </span>
                )}
              </span>
              {under && (
                <span className="shrink-0 self-center pl-2 text-[12px] text-quiet">{`${under.length} more folded`}</span>
              )}
              {!finding && p.unreached?.has(row.key) && (
                <span className="ml-auto shrink-0 self-center pl-3 text-[12px] text-quiet">no sample</span>
              )}
              {finding && (
                <span
                  className={`ml-auto max-w-[45%] self-center truncate pl-3 text-[12px] font-semibold ${finding.level === "error" ? "text-dead" : "text-wait"}`}
                  title={wrong.map((f) => `${f.message} ${f.repair}`).join("\n")}
                >
                  {wrong.length > 1 && `${wrong.length}: `}
                  {finding.message}
                </span>
              )}
            </div>
            {p.columns.map((c, j) => {
              if (!within(seen.columns, j) && j !== p.focus.column) return null;
              const cell = foldedCell(row, under, c.rehearsal);
              return (
                <CellBox
                  key={c.key}
                  row={seen.large ? i + 2 : undefined}
                  column={seen.large ? j + 3 : undefined}
                  id={`cell-${i}-${j}`}
                  text={cell.text}
                  state={cell.state}
                  reached={cell.reached}
                  error={cell.error}
                  here={here || chosen}
                  on={here && j === p.focus.column}
                  label={here && j === p.focus.column ? spoken(row, c.key, cell, finding) : undefined}
                />
              );
            })}
            {p.lane && (
              <div
                style={at(i + 1, p.columns.length + 2)}
                className={`border-b border-r border-line ${here ? "bg-mark" : "bg-sheet"}`}
              >
                {p.lane.cell(row)}
              </div>
            )}
            {p.last && (
              <div style={at(i + 1, p.columns.length + (p.lane ? 3 : 2))} className="border-b border-line bg-sheet" />
            )}
          </div>
        );
      })}
      {p.below && (
        <div role="row" className="contents">
          <div role="gridcell" className="px-4 py-6 text-quiet" style={{ gridColumn: "1 / -1" }}>
            {p.below}
          </div>
        </div>
      )}
    </div>
  );
}

/** A cell. There are thousands of them, so each is drawn anew only when it has changed. */
type BoxProps = Cell & {
  id: string;
  here: boolean;
  on: boolean;
  row: number | undefined;
  column: number | undefined;
  /** What is said of the cell that is looked at. */
  label: string | undefined;
};

/** A cell as it is said: the row, the column, what is in it, and what is wrong with its row. */
function spoken(row: Row, column: string, cell: Cell, finding: Finding | undefined): string {
  const name =
    row.kind === "intake"
      ? "intake"
      : row.kind === "way"
        ? `way ${row.way.name}`
        : `${row.step.kind} ${row.step.title || row.step.id}`;
  const state = cell.state && !cell.text.includes(cell.state) ? `, ${cell.state}` : "";
  const did = cell.reached ? `${cell.text}${state}${cell.error ? `: ${cell.error}` : ""}` : "not reached";
  return `${row.n}, ${name}; ${column}: ${did}${finding ? `. ${finding.level}: ${finding.message}` : ""}`;
}

const CellBox = memo(function CellBox(c: BoxProps) {
  return (
    <div
      role="gridcell"
      tabIndex={-1}
      id={c.id}
      style={c.row ? { gridRow: c.row, gridColumn: c.column } : undefined}
      title={c.error ?? c.text}
      aria-label={c.label}
      data-reached={c.reached}
      className={`flex min-w-0 items-center gap-1.5 border-b border-r border-line px-2 text-[12.5px] ${c.on ? "bg-sheet shadow-[inset_0_0_0_2px_var(--color-buoy)]" : c.here ? "bg-mark" : "bg-sheet"} ${c.state === "dead letter" ? "!bg-loss" : ""}`}
    >
      {c.reached ? (
        <>
          {c.state && <Mark state={c.state} />}
          <span className="truncate">{c.text}</span>
        </>
      ) : (
        <span className="pl-1 text-quiet" role="img" aria-label="not reached">
          ·
        </span>
      )}
    </div>
  );
});

/** The cell that something stands in. */
function cellAt(at: EventTarget): Focus | null {
  const found = /^cell-(\d+)-(\d+)$/.exec((at as Element).closest?.("[role=gridcell][id]")?.id ?? "");
  return found && { row: Number(found[1]), column: Number(found[2]) };
}

/** How wide the numbers of the steps are, in pixels. */
const numbers = 34;

type HeadProps = {
  children?: ReactNode;
  left?: string;
  steps?: boolean;
  cell?: boolean;
  style?: CSSProperties | undefined;
};

function Head(p: HeadProps) {
  return (
    <div
      role="columnheader"
      data-head
      data-steps={p.steps || undefined}
      data-cell={p.cell || undefined}
      style={p.style}
      className={`head sticky top-0 ${p.left ? `${p.left} z-20` : "z-10"} ${p.cell ? "min-w-[108px]" : "min-w-0"} self-stretch border-b border-r border-line bg-paper px-2 py-1.5`}
    >
      {p.children}
    </div>
  );
}

/** A row as a sentence. */
export function RowText({ row, intake }: { row: Row; intake: ReactNode }) {
  if (row.kind === "intake") return <>{intake}</>;
  if (row.kind === "step") return <Sentence step={row.step} />;
  return (
    <>
      <b className="text-buoy">{row.way.name}</b>
      {row.split && <span className="text-quiet"> a transaction of its own</span>}
      {row.fixed === "dead" && <span className="text-quiet"> once, as a transaction of its own</span>}
      {!row.otherwise && row.way.when !== undefined && (
        <>
          {" "}
          when <span className="chip">{String(row.way.when)}</span>
        </>
      )}
    </>
  );
}

/** A finding stands in the innermost row that it concerns. */
export function belongs(row: Row, f: Finding): boolean {
  if (f.pointer !== row.pointer && !f.pointer.startsWith(`${row.pointer}/`)) return false;
  const rest = f.pointer.slice(row.pointer.length);
  return !/^\/(steps|ways\/\d+|otherwise|else\/steps)(\/|$)/.test(rest) || (row.kind === "step" && rest === "/ways");
}
