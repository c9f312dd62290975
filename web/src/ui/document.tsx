import { useMemo } from "react";
import type { Schemas } from "../api/client";
import { layout } from "./tree";

type Props = {
  body: Schemas["Body"] | undefined;
  /** Pointers whose values are used: underlined. */
  used?: string[];
  /** Pointers whose values are new: with a bar in the margin. */
  changed?: string[];
  /** Pointers that are looked at now. */
  lit?: string[];
  onPick?: (pointer: string) => void;
  onHover?: (pointer: string | null) => void;
};

const under = (pointer: string, of: string[] | undefined) =>
  !!of?.some((p) => p === pointer || (p !== "" && pointer.startsWith(`${p}/`)));

/** A message as people read it: JSON by lines, anything else as its text. */
export function Document({ body, used, changed, lit, onPick, onHover }: Props) {
  const text = body?.text;
  const lines = useMemo(
    () => (text === undefined || body?.format === "text" ? null : layout(text)),
    [text, body?.format],
  );
  if (!body) return <p className="p-3 text-quiet">Nothing here yet.</p>;
  if (text === undefined) {
    return <p className="p-3 text-quiet">{Math.round(((body.base64?.length ?? 0) * 3) / 4)} bytes that are no text.</p>;
  }
  if (!lines) return <pre className="data p-3 whitespace-pre-wrap">{text}</pre>;
  return (
    <div className="data py-2" onMouseLeave={() => onHover?.(null)}>
      {lines.slice(0, 3000).map((l, i) => (
        <div
          key={i}
          className={`flex border-l-[3px] ${under(l.pointer, changed) && l.pointer !== "" ? "border-buoy bg-change" : "border-transparent"} ${under(l.pointer, lit) ? "!bg-mark" : ""}`}
        >
          <span className="w-9 shrink-0 pr-3 text-right text-[11.5px] text-quiet select-none">{i + 1}</span>
          <span className="min-w-0 whitespace-pre-wrap break-all" style={{ paddingLeft: l.indent * 14 }}>
            {l.tokens.map((t, j) => {
              const mark = used?.includes(t.pointer)
                ? "font-bold underline decoration-2 decoration-deep underline-offset-2"
                : "";
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
                  onClick={() => onPick(t.pointer)}
                  onMouseEnter={() => onHover?.(t.pointer)}
                >
                  {t.text}
                </button>
              );
            })}
          </span>
        </div>
      ))}
      {lines.length > 3000 && <p className="px-3 text-quiet">{lines.length - 3000} more lines are not shown.</p>}
    </div>
  );
}
