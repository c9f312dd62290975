import { useMemo, useState } from "react";
import type { Schemas } from "../api/client";
import { type Line, layout, pathOf } from "./tree";

type Body = Schemas["Body"];

type Looks = {
  /** Pointers whose values are used: underlined. */
  used?: string[];
  /** Pointers whose values are new: with a bar in the margin. */
  changed?: string[];
  /** Pointers that are looked at now. */
  lit?: string[];
  /** Takes the expression that reads a value, or a whole list, object or segment. */
  onPick?: (expression: string) => void;
  /** What is picked now. */
  picked?: string | null;
  /** Expressions that a target uses. */
  mapped?: string[];
  /** Names of fields beside their values, where the format has some. */
  named?: boolean;
  onHover?: (pointer: string | null) => void;
  /** The name that expressions know the document by. */
  root?: string;
};

const most = 3000; // lines shown

const under = (pointer: string, of: string[] | undefined) =>
  !!of?.some((p) => p === pointer || (p !== "" && pointer.startsWith(`${p}/`)));

const kindOf: Record<string, string> = {
  name: "font-semibold text-deep",
  attribute: "text-wait",
  comment: "text-quiet italic",
  mark: "text-quiet",
  value: "",
};

const underlined = "font-bold underline decoration-2 decoration-deep underline-offset-2";

/** A message as people read it: each format as itself, and beside that its tree. */
export function Document({ body, ...looks }: Looks & { body: Body | undefined }) {
  const [shown, setShown] = useState<"own" | "names" | "tree" | null>(null);
  const hasNames = !!body?.lines?.some((l) => l.tokens.some((t) => t.title));
  const view = shown ?? (looks.named && hasNames ? "names" : "own");
  const asTree = view === "tree";
  const format = body?.format ?? "";
  const json = format === "json" || format === "" ? body?.text : asTree || format === "form" ? body?.tree : undefined;
  const lines = useMemo(() => (json === undefined ? null : layout(json)), [json]);
  if (!body) return <p className="p-3 text-quiet">Nothing here yet.</p>;
  const own = body.lines !== undefined || (format === "csv" && body.tree !== undefined);
  return (
    <div>
      {own && (
        <p className="flex gap-3 px-3 pt-1.5 text-[12.5px]">
          {(
            [
              ["own", `as ${format.toUpperCase()}`],
              ["names", "by name"],
              ["tree", "as a tree"],
            ] as const
          )
            .filter(([v]) => v !== "names" || hasNames)
            .map(([v, title]) => (
              <button
                key={v}
                type="button"
                aria-pressed={view === v}
                className={view === v ? "font-bold" : "text-quiet hover:underline"}
                onClick={() => setShown(v)}
              >
                {title}
              </button>
            ))}
          {body.encoding && <span className="ml-auto text-quiet">{body.encoding}</span>}
        </p>
      )}
      {view === "names" && body.lines ? (
        <Named lines={body.lines} {...looks} />
      ) : lines ? (
        <Tree lines={lines} {...looks} />
      ) : own && body.lines ? (
        <Laid lines={body.lines} {...looks} />
      ) : own && body.tree !== undefined ? (
        <Grid tree={body.tree} {...looks} />
      ) : body.text === undefined ? (
        <Hex base64={body.base64 ?? ""} />
      ) : (
        <pre className="data p-3 whitespace-pre-wrap break-all">{body.text}</pre>
      )}
    </div>
  );
}

/** What people have folded, by pointer: it stays so in the next document of the same kind. */
let folded = new Set<string>();

/** The lines that are not folded away; opens is how many lines an object or list holds, 0 for none. */
function unfolded(lines: Line[], folds: Set<string>): { l: Line; n: number; opens: number }[] {
  const out: { l: Line; n: number; opens: number }[] = [];
  for (let n = 0; n < lines.length; n++) {
    const l = lines[n] as Line;
    const last = l.tokens.at(-1)?.text;
    let opens = 0;
    if (last === "{" || last === "[") {
      let end = n + 1;
      while (end < lines.length && (lines[end] as Line).indent > l.indent) end++;
      opens = end - n;
    }
    out.push({ l, n, opens });
    if (opens && folds.has(l.pointer)) n += opens;
  }
  return out;
}

/** A tree as JSON, a member a line. */
/** A line that is out of sight is not laid out; what it needs is as good as known. */
const offscreen = "[content-visibility:auto] [contain-intrinsic-height:auto_19px]";

function Tree({
  lines,
  used,
  changed,
  lit,
  onPick,
  onHover,
  root = "body",
  picked,
  mapped,
}: Looks & { lines: Line[] }) {
  const [folds, setFolds] = useState(() => folded);
  const fold = (pointer: string) => {
    if (folded.has(pointer)) folded.delete(pointer);
    else folded.add(pointer);
    folded = new Set(folded);
    setFolds(folded);
  };
  const shown = useMemo(() => unfolded(lines, folds), [lines, folds]);
  return (
    <div className="data py-2" onMouseLeave={() => onHover?.(null)}>
      {shown.slice(0, most).map(({ l, n, opens }) => (
        <div
          key={n}
          className={`flex border-l-[3px] ${shown.length > 300 ? offscreen : ""} ${under(l.pointer, changed) && l.pointer !== "" ? "border-buoy bg-change" : "border-transparent"} ${under(l.pointer, lit) ? "!bg-mark" : ""}`}
        >
          {opens > 0 ? (
            <button
              type="button"
              tabIndex={-1}
              className="w-11 shrink-0 whitespace-nowrap pr-3 text-right text-[11.5px] text-quiet select-none hover:text-deep"
              aria-expanded={!folds.has(l.pointer)}
              aria-label={`${folds.has(l.pointer) ? "Unfold" : "Fold"} ${l.pointer || "all"}`}
              onClick={() => fold(l.pointer)}
            >
              {folds.has(l.pointer) ? "▸" : "▾"} {n + 1}
            </button>
          ) : (
            <span className="w-11 shrink-0 whitespace-nowrap pr-3 text-right text-[11.5px] text-quiet select-none">
              {n + 1}
            </span>
          )}
          <span className="min-w-0 whitespace-pre-wrap break-all" style={{ paddingLeft: l.indent * 14 }}>
            {l.tokens.map((t, j) => {
              const mark = t.kind === "value" && used?.includes(t.pointer) ? underlined : "";
              const path = root + t.path;
              if ((t.kind !== "value" && t.kind !== "name") || !onPick) {
                return (
                  <span
                    key={j}
                    className={t.kind === "value" ? mark : "text-quiet"}
                    onMouseEnter={() => onHover?.(t.pointer)}
                  >
                    {t.text}
                  </span>
                );
              }
              return (
                <Pick
                  key={j}
                  path={path}
                  className={`${t.kind === "name" ? "text-quiet" : ""} ${mark || (t.kind === "value" && mapped?.includes(path) ? underlined : "")}`}
                  title={t.kind === "name" ? `Use ${path} as a whole` : "Use this value"}
                  picked={picked}
                  onPick={onPick}
                  onMouseEnter={() => onHover?.(t.pointer)}
                >
                  {t.text}
                </Pick>
              );
            })}
            {opens > 0 && folds.has(l.pointer) && <span className="text-quiet"> … {opens} lines</span>}
          </span>
        </div>
      ))}
      {shown.length > most && <p className="px-3 text-quiet">{shown.length - most} more lines are not shown.</p>}
    </div>
  );
}

/** XML and HL7 as the server laid them out. */
function Laid({ lines, used, lit, changed, onPick, onHover, picked, mapped }: Looks & { lines: Schemas["Line"][] }) {
  return (
    <div className="data py-2" onMouseLeave={() => onHover?.(null)} data-testid="laid">
      {lines.map((l, i) => {
        const here = l.tokens.flatMap((t) => t.pointer ?? t.expression ?? []);
        return (
          <div
            key={i}
            className={`flex border-l-[3px] ${here.some((p) => under(p, changed)) ? "border-buoy bg-change" : "border-transparent"} ${here.some((p) => under(p, lit)) ? "!bg-mark" : ""}`}
          >
            <span className="w-11 shrink-0 whitespace-nowrap pr-3 text-right text-[11.5px] text-quiet select-none">
              {i + 1}
            </span>
            <span className="min-w-0 whitespace-pre-wrap break-all" style={{ paddingLeft: l.indent * 14 }}>
              {l.tokens.map((t, j) => {
                const expression = t.expression ?? (t.pointer ? pathOf(t.pointer) : undefined);
                const code = /"([^"]+)"\)$/.exec(t.expression ?? "")?.[1];
                const place = [code, t.title, t.meaning].filter(Boolean).join(" · ") || undefined;
                const look = `${kindOf[t.kind] ?? ""} ${t.kind === "value" && used?.includes(t.pointer ?? t.expression ?? "-") ? underlined : ""}`;
                if ((t.kind !== "value" && t.kind !== "name") || !expression || !onPick)
                  return (
                    <span
                      key={j}
                      className={look}
                      title={place}
                      onMouseEnter={() => onHover?.(t.pointer ?? t.expression ?? null)}
                    >
                      {t.text}
                    </span>
                  );
                return (
                  <Pick
                    key={j}
                    path={expression}
                    className={`${look} ${t.kind === "value" && mapped?.includes(expression) ? underlined : ""}`}
                    title={place ?? "Use this value"}
                    picked={picked}
                    onPick={onPick}
                    onMouseEnter={() => onHover?.(t.pointer ?? t.expression ?? null)}
                  >
                    {t.text}
                  </Pick>
                );
              })}
            </span>
          </div>
        );
      })}
    </div>
  );
}

/** A value without the quotes that JSON has around a text. */
function plainValue(text: string): string {
  try {
    const v = JSON.parse(text);
    return typeof v === "string" ? v : text;
  } catch {
    return text;
  }
}

/** A value that is pointed at: by mouse, by Enter, or carried to where it belongs. */
function Pick(p: {
  path: string;
  className?: string;
  title?: string;
  picked?: string | null;
  onPick: (path: string) => void;
  onMouseEnter?: () => void;
  children: React.ReactNode;
}) {
  return (
    <button
      type="button"
      tabIndex={-1}
      data-pick={p.path}
      draggable
      className={`text-left hover:bg-mark ${p.picked === p.path ? "bg-change outline-2 outline-buoy" : ""} ${p.className ?? ""}`}
      title={p.title}
      aria-pressed={p.picked === p.path}
      // The editor whose cursor it goes to keeps the focus.
      onMouseDown={(e) => {
        if (document.activeElement?.closest(".cm-editor")) e.preventDefault();
      }}
      onDragStart={(e) => {
        e.dataTransfer.setData("text/plain", p.path);
        e.dataTransfer.effectAllowed = "copy";
      }}
      onClick={() => p.onPick(p.path)}
      onMouseEnter={p.onMouseEnter}
      // Text in a button cannot be selected, so the usual keys copy its value.
      onKeyDown={(e) => {
        if (!(e.ctrlKey || e.metaKey) || e.key.toLowerCase() !== "c") return;
        e.preventDefault();
        void navigator.clipboard?.writeText(plainValue(e.currentTarget.textContent ?? ""));
      }}
    >
      {p.children}
    </button>
  );
}

const cellPath = (row: number, column: string | number) =>
  pathOf(`/${row}/${String(column).replaceAll("~", "~0").replaceAll("/", "~1")}`);

/** The fields of HL7 with what they are called, a field a line. */
function Named({ lines, used, lit, onPick, onHover, picked, mapped }: Looks & { lines: Schemas["Line"][] }) {
  return (
    <div className="py-1.5" data-testid="named" onMouseLeave={() => onHover?.(null)}>
      {lines.map((l, i) => {
        const [head, ...rest] = l.tokens;
        const values = rest.filter((t) => t.kind === "value" && t.expression && !/MSH-[12]"/.test(t.expression));
        const path = head?.expression ?? "";
        return (
          <div key={i}>
            <div className="px-3">
              {onPick && path ? (
                <Pick
                  path={path}
                  className="data font-semibold text-deep"
                  title="Use this segment"
                  picked={picked}
                  onPick={onPick}
                >
                  {head?.text}
                </Pick>
              ) : (
                <span className="data font-semibold text-deep">{head?.text}</span>
              )}{" "}
              <span className="text-quiet">{head?.title}</span>
            </div>
            {values.map((t, j) => {
              const expression = t.expression ?? "";
              const place = /-([^"]+)"\)$/.exec(expression)?.[1] ?? "";
              const mark = used?.includes(expression) || mapped?.includes(expression) ? underlined : "";
              return (
                <div
                  key={j}
                  className={`flex gap-2 pl-7 pr-3 ${lit?.includes(expression) ? "bg-mark" : ""}`}
                  onMouseEnter={() => onHover?.(expression)}
                >
                  <span className="data w-14 shrink-0 text-quiet">{place}</span>
                  <span className="w-44 shrink-0 truncate text-quiet" title={t.title}>
                    {place.includes(".") ? (t.title?.split(", ").slice(1).join(", ") ?? t.title) : t.title}
                  </span>
                  {onPick ? (
                    <Pick
                      path={expression}
                      className={`data break-all ${mark}`}
                      title={t.meaning ?? "Use this value"}
                      picked={picked}
                      onPick={onPick}
                    >
                      {t.text}
                    </Pick>
                  ) : (
                    <span className={`data break-all ${mark}`} title={t.meaning}>
                      {t.text}
                    </span>
                  )}
                </div>
              );
            })}
          </div>
        );
      })}
    </div>
  );
}

/** Rows and columns of CSV. */
function Grid({ tree, used, onPick, onHover, picked, mapped }: Looks & { tree: string }) {
  const rows = useMemo(() => JSON.parse(tree) as (string[] | Record<string, string>)[], [tree]);
  const named = rows.length > 0 && !Array.isArray(rows[0]);
  const columns: (string | number)[] = named
    ? [...new Set(rows.flatMap((r) => Object.keys(r)))]
    : Array.from({ length: Math.max(0, ...rows.map((r) => (r as string[]).length)) }, (_, i) => i);
  return (
    <table className="data m-3 border-collapse" data-testid="grid" onMouseLeave={() => onHover?.(null)}>
      <thead>
        <tr>
          <th className="px-2 text-right font-normal text-quiet">
            {onPick ? (
              <Pick path="body" title="Use all rows" picked={picked} onPick={onPick}>
                rows
              </Pick>
            ) : (
              "row"
            )}
          </th>
          {columns.map((c) => (
            <th key={c} className="border border-line px-2 py-0.5 text-left font-semibold text-deep">
              {named ? c : Number(c) + 1}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.slice(0, 500).map((r, i) => (
          <tr key={i}>
            <td className="px-2 text-right text-[11.5px] text-quiet">{i + 1}</td>
            {columns.map((c) => {
              const v = (r as Record<string | number, string>)[c];
              const pointer = `/${i}/${String(c).replaceAll("~", "~0").replaceAll("/", "~1")}`;
              return (
                <td
                  key={c}
                  className="border border-line px-2 py-0.5 align-top whitespace-pre"
                  onMouseEnter={() => onHover?.(pointer)}
                >
                  {v === undefined ? null : onPick ? (
                    <Pick
                      path={cellPath(i, c)}
                      className={used?.includes(pointer) || mapped?.includes(cellPath(i, c)) ? underlined : ""}
                      title="Use this value"
                      picked={picked}
                      onPick={onPick}
                    >
                      {v || "\u00a0"}
                    </Pick>
                  ) : (
                    v
                  )}
                </td>
              );
            })}
          </tr>
        ))}
      </tbody>
      {rows.length > 500 && <caption className="caption-bottom text-quiet">{rows.length - 500} more rows</caption>}
    </table>
  );
}

/** Bytes that are no text, eight a line. */
function Hex({ base64 }: { base64: string }) {
  const bytes = useMemo(() => Uint8Array.from(atob(base64), (c) => c.charCodeAt(0)), [base64]);
  const rows = Array.from({ length: Math.min(512, Math.ceil(bytes.length / 8)) }, (_, i) =>
    bytes.subarray(i * 8, i * 8 + 8),
  );
  return (
    <div className="data p-3" data-testid="hex">
      {rows.map((r, i) => (
        <div key={i} className="whitespace-pre">
          <span className="text-quiet">{(i * 8).toString(16).padStart(6, "0")} </span>
          {[...r]
            .map((b) => b.toString(16).padStart(2, "0"))
            .join(" ")
            .padEnd(24)}
          <span className="text-quiet">{[...r].map((b) => (b >= 32 && b < 127 ? String.fromCharCode(b) : "·"))}</span>
        </div>
      ))}
      <p className="mt-1 text-quiet">
        {bytes.length} bytes{bytes.length > 4096 && ", the first 4096 are shown"}
      </p>
    </div>
  );
}
