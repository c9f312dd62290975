import { useMemo, useState } from "react";
import { Dialog } from "../../ui/parts";
import type { Row } from "./fields";
import { likeliest, type Source } from "./paths";

type Match = { row: Row; source: Source };

/** Many lines at once by like names: what would be taken is shown before. */
export function LikeNames(p: {
  rows: Row[];
  sources: Source[];
  itemSources: (r: Row) => Source[];
  onClose: () => void;
  onTake: (chosen: Match[]) => void;
}) {
  const matches = useMemo(
    () =>
      p.rows.flatMap((row): Match[] => {
        if (row.field || !row.line || row.line.list) return [];
        const source = likeliest(
          row.line.name,
          row.line.title,
          p.itemSources(row).filter((s) => !s.list),
        );
        return source ? [{ row, source }] : [];
      }),
    [p.rows, p.itemSources],
  );
  const [left, setLeft] = useState<Set<string>>(new Set());
  const chosen = matches.filter((m) => !left.has(m.row.key));
  return (
    <Dialog open onClose={p.onClose} title="Lines with a value of a like name" wide>
      {matches.length === 0 ? (
        <p className="text-quiet">No line that is still empty has a name like that of a value.</p>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th aria-label="take" />
              <th>Line</th>
              <th>Value</th>
              <th>Here</th>
            </tr>
          </thead>
          <tbody>
            {matches.map((m) => (
              <tr key={m.row.key} className="border-t border-line">
                <td className="px-3">
                  <input
                    type="checkbox"
                    aria-label={`Take ${m.row.to}`}
                    checked={!left.has(m.row.key)}
                    onChange={(e) => {
                      const next = new Set(left);
                      if (e.target.checked) next.delete(m.row.key);
                      else next.add(m.row.key);
                      setLeft(next);
                    }}
                  />
                </td>
                <td className="data px-3 py-1">{m.row.path}</td>
                <td className="data px-3 py-1">{m.source.expression}</td>
                <td className="data px-3 py-1 text-done">{m.source.value}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <div className="mt-3 flex justify-end gap-2">
        <button type="button" className="btn" onClick={p.onClose}>
          Cancel
        </button>
        <button type="button" className="btn btn-go" disabled={chosen.length === 0} onClick={() => p.onTake(chosen)}>
          Take {chosen.length} {chosen.length === 1 ? "line" : "lines"}
        </button>
      </div>
    </Dialog>
  );
}
