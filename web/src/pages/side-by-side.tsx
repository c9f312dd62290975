import { cellOf, type Row } from "../model/model";
import { IntakeSentence } from "../sheet/intake";
import { RowText } from "../sheet/sheet";
import type { Followed } from "./draft";

/** The samples that go another way than under the live version, step by step. */
export function SideBySide(p: { rows: Row[]; before: Followed[] | undefined; after: Followed[]; live: number }) {
  if (!p.live)
    return <p className="p-4 text-quiet">There is no version yet with which the samples could be compared.</p>;
  if (!p.before) return <p className="p-4 text-quiet">…</p>;
  const then = new Map(p.before.map((c) => [c.sample, c]));
  const others = p.after.filter((c) =>
    p.rows.some((r) => {
      const [a, b] = [cellOf(r, then.get(c.sample)), cellOf(r, c)];
      return a.text !== b.text || a.reached !== b.reached || a.state !== b.state;
    }),
  );
  const differing = p.rows.filter((r) =>
    others.some((c) => {
      const [a, b] = [cellOf(r, then.get(c.sample)), cellOf(r, c)];
      return a.text !== b.text || a.reached !== b.reached;
    }),
  );
  return (
    <div className="flex min-h-0 min-w-0 flex-col" data-testid="compared">
      <h2 className="pane-head bg-paper">
        {others.length === 0
          ? "All samples go as they did"
          : `${others.length} of ${p.after.length} samples go another way than under version ${p.live}`}
      </h2>
      {others.length > 0 && (
        <div className="min-h-0 flex-1 overflow-auto">
          <table className="grid-table">
            <thead>
              <tr>
                <th>Steps that do something else</th>
                {others.map((c) => (
                  <th key={c.sample}>{c.sample}</th>
                ))}
              </tr>
            </thead>
            <tbody>
              {differing.map((r) => (
                <tr key={r.kind + r.key}>
                  <td className="max-w-[22rem]">
                    <span className="mr-2 text-quiet">{r.n}</span>
                    <RowText row={r} intake={<IntakeSentence intake={{ kind: "webhook" }} />} />
                  </td>
                  {others.map((c) => {
                    const [a, b] = [cellOf(r, then.get(c.sample)), cellOf(r, c)];
                    const other = a.text !== b.text || a.reached !== b.reached;
                    return (
                      <td key={c.sample} className={other ? "bg-change" : ""} title={b.error ?? undefined}>
                        {other && a.reached && <del className="text-quiet">{a.text}</del>} {b.reached ? b.text : ""}
                        {other && !b.reached && <span className="text-quiet"> not reached</span>}
                      </td>
                    );
                  })}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </div>
  );
}
