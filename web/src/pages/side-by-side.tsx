import { Link } from "react-router";
import { cellOf, type Row, type Told } from "../model/model";
import { IntakeSentence } from "../sheet/intake";
import { RowText } from "../sheet/sheet";
import type { Followed } from "./draft";

/** A message in two walks. */
export type Pair = { name: string; link?: string; was: Told | undefined; is: Told };

/** Whether a row does something else to a message in its second walk. */
function other(r: Row, p: Pair): boolean {
  const [a, b] = [cellOf(r, p.was), cellOf(r, p.is)];
  return a.text !== b.text || a.reached !== b.reached || a.state !== b.state;
}

/** The samples that go another way than under the live version. */
export function samplesThatDiffer(rows: Row[], before: Followed[], after: Followed[]): Pair[] {
  const then = new Map(before.map((c) => [c.sample, c]));
  return after
    .map((c): Pair => ({ name: c.sample, was: then.get(c.sample), is: c }))
    .filter((c) => rows.some((r) => other(r, c)));
}

/** The steps that do something else to one of the messages, a message in a column. */
export function StepsSideBySide(p: { rows: Row[]; pairs: Pair[]; focus?: number; onFocus?: (column: number) => void }) {
  const rows = p.rows.filter((r) => p.pairs.some((c) => other(r, c)));
  return (
    <table className="grid-table">
      <thead>
        <tr>
          <th>Steps that do something else</th>
          {p.pairs.map((c, i) => (
            <th key={c.link ?? c.name} className={`whitespace-nowrap ${i === p.focus ? "!text-ink" : ""}`}>
              {p.onFocus ? (
                <button type="button" aria-pressed={i === p.focus} onClick={() => p.onFocus?.(i)}>
                  {c.name}
                </button>
              ) : (
                c.name
              )}
              {c.link && (
                <Link to={c.link} className="btn-bare ml-2 font-normal">
                  open
                </Link>
              )}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((r) => (
          <tr key={r.kind + r.key}>
            <td className="max-w-[22rem]">
              <span className="mr-2 text-quiet">{r.n}</span>
              <RowText row={r} intake={<IntakeSentence intake={{ kind: "webhook" }} />} />
            </td>
            {p.pairs.map((c) => {
              const [a, b] = [cellOf(r, c.was), cellOf(r, c.is)];
              const differs = other(r, c);
              return (
                <td key={c.link ?? c.name} className={differs ? "bg-change" : ""} title={b.error ?? undefined}>
                  {differs && a.reached && <del className="text-quiet">{a.text}</del>} {b.reached ? b.text : ""}
                  {differs && !b.reached && <span className="text-quiet"> not reached</span>}
                </td>
              );
            })}
          </tr>
        ))}
        {rows.length === 0 && (
          <tr>
            <td colSpan={p.pairs.length + 1} className="text-quiet">
              Every step says what it said; what differs is below.
            </td>
          </tr>
        )}
      </tbody>
    </table>
  );
}
