import { useMemo } from "react";
import { type Looks, Pick, under, underlined } from "./pick";
import { escapeToken, pathOf } from "./tree";

const cellPointer = (row: number, column: string | number) => `/${row}/${escapeToken(String(column))}`;

/** Rows and columns of CSV. */
export function Grid({ tree, used, lit, onPick, onHover, picked, mapped, root = "body" }: Looks & { tree: string }) {
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
              <Pick path={root} title="Use all rows" picked={picked} onPick={onPick}>
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
              const pointer = cellPointer(i, c);
              const path = pathOf(pointer, root);
              return (
                <td
                  key={c}
                  className={`border border-line px-2 py-0.5 align-top whitespace-pre ${under(pointer, lit) ? "!bg-mark" : ""}`}
                  onMouseEnter={() => onHover?.(pointer)}
                >
                  {v === undefined ? null : onPick ? (
                    <Pick
                      path={path}
                      className={used?.includes(pointer) || mapped?.includes(path) ? underlined : ""}
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
