import { useMemo, useState } from "react";
import { type Looks, Pick, under, underlined } from "./pick";
import type { Line } from "./tree";

const most = 20_000; // lines shown

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

/** A line that is out of sight is not laid out; what it needs is as good as known. */
const offscreen = "[content-visibility:auto] [contain-intrinsic-height:auto_19px]";

/** A tree as JSON, a member a line. */
export function Tree({
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
