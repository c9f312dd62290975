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
  /** Takes the expression that reads a value. */
  onPick?: (expression: string) => void;
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
  const [asTree, setAsTree] = useState(false);
  const format = body?.format ?? "";
  const json = format === "json" || format === "" ? body?.text : asTree || format === "form" ? body?.tree : undefined;
  const lines = useMemo(() => (json === undefined ? null : layout(json)), [json]);
  if (!body) return <p className="p-3 text-quiet">Nothing here yet.</p>;
  const own = body.lines !== undefined || (format === "csv" && body.tree !== undefined);
  return (
    <div>
      {own && (
        <p className="flex gap-3 px-3 pt-1.5 text-[12.5px]">
          {[
            [false, `as ${format.toUpperCase()}`],
            [true, "as a tree"],
          ].map(([tree, title]) => (
            <button
              key={String(tree)}
              type="button"
              aria-pressed={asTree === tree}
              className={asTree === tree ? "font-bold" : "text-quiet hover:underline"}
              onClick={() => setAsTree(tree as boolean)}
            >
              {title}
            </button>
          ))}
          {body.encoding && <span className="ml-auto text-quiet">{body.encoding}</span>}
        </p>
      )}
      {lines ? (
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

/** A tree as JSON, a member a line. */
function Tree({ lines, used, changed, lit, onPick, onHover, root }: Looks & { lines: Line[] }) {
  return (
    <div className="data py-2" onMouseLeave={() => onHover?.(null)}>
      {lines.slice(0, most).map((l, i) => (
        <div
          key={i}
          className={`flex border-l-[3px] ${under(l.pointer, changed) && l.pointer !== "" ? "border-buoy bg-change" : "border-transparent"} ${under(l.pointer, lit) ? "!bg-mark" : ""}`}
        >
          <span className="w-9 shrink-0 pr-3 text-right text-[11.5px] text-quiet select-none">{i + 1}</span>
          <span className="min-w-0 whitespace-pre-wrap break-all" style={{ paddingLeft: l.indent * 14 }}>
            {l.tokens.map((t, j) => {
              const mark = used?.includes(t.pointer) ? underlined : "";
              if (t.kind !== "value" || !onPick) {
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
                <button
                  key={j}
                  type="button"
                  tabIndex={-1}
                  className={`text-left hover:bg-mark ${mark}`}
                  title="Use this value"
                  onClick={() => onPick(pathOf(t.pointer, root))}
                  onMouseEnter={() => onHover?.(t.pointer)}
                >
                  {t.text}
                </button>
              );
            })}
          </span>
        </div>
      ))}
      {lines.length > most && <p className="px-3 text-quiet">{lines.length - most} more lines are not shown.</p>}
    </div>
  );
}

/** XML and HL7 as the server laid them out. */
function Laid({ lines, used, lit, changed, onPick, onHover }: Looks & { lines: Schemas["Line"][] }) {
  return (
    <div className="data py-2" onMouseLeave={() => onHover?.(null)} data-testid="laid">
      {lines.map((l, i) => {
        const here = l.tokens.flatMap((t) => t.pointer ?? t.expression ?? []);
        return (
          <div
            key={i}
            className={`flex border-l-[3px] ${here.some((p) => under(p, changed)) ? "border-buoy bg-change" : "border-transparent"} ${here.some((p) => under(p, lit)) ? "!bg-mark" : ""}`}
          >
            <span className="w-9 shrink-0 pr-3 text-right text-[11.5px] text-quiet select-none">{i + 1}</span>
            <span className="min-w-0 whitespace-pre-wrap break-all" style={{ paddingLeft: l.indent * 14 }}>
              {l.tokens.map((t, j) => {
                const expression = t.expression ?? (t.pointer ? pathOf(t.pointer) : undefined);
                const place = /"([^"]+)"\)$/.exec(t.expression ?? "")?.[1];
                const look = `${kindOf[t.kind] ?? ""} ${t.kind === "value" && used?.includes(t.pointer ?? t.expression ?? "-") ? underlined : ""}`;
                if (t.kind !== "value" || !expression || !onPick)
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
                  <button
                    key={j}
                    type="button"
                    tabIndex={-1}
                    className={`text-left hover:bg-mark ${look}`}
                    title={place ?? "Use this value"}
                    onClick={() => onPick(expression)}
                    onMouseEnter={() => onHover?.(t.pointer ?? t.expression ?? null)}
                  >
                    {t.text}
                  </button>
                );
              })}
            </span>
          </div>
        );
      })}
    </div>
  );
}

/** Rows and columns of CSV. */
function Grid({ tree, used, onPick, onHover }: Looks & { tree: string }) {
  const rows = useMemo(() => JSON.parse(tree) as (string[] | Record<string, string>)[], [tree]);
  const named = rows.length > 0 && !Array.isArray(rows[0]);
  const columns: (string | number)[] = named
    ? [...new Set(rows.flatMap((r) => Object.keys(r)))]
    : Array.from({ length: Math.max(0, ...rows.map((r) => (r as string[]).length)) }, (_, i) => i);
  return (
    <table className="data m-3 border-collapse" data-testid="grid" onMouseLeave={() => onHover?.(null)}>
      <thead>
        <tr>
          <th className="px-2 text-right font-normal text-quiet">row</th>
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
                    <button
                      type="button"
                      tabIndex={-1}
                      className={`text-left hover:bg-mark ${used?.includes(pointer) ? underlined : ""}`}
                      title="Use this value"
                      onClick={() => onPick(pathOf(pointer))}
                    >
                      {v || "\u00a0"}
                    </button>
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
