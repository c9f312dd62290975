import { useEffect, useMemo, useState } from "react";
import { call, enc } from "../api/client";
import { changesOf } from "../model/changes";
import { merge } from "../model/merge";
import type { FlowDocument } from "../model/model";
import { Dialog } from "../ui/parts";

/** What somebody else saved while this draft was edited, and what both began with. */
export type Meanwhile = { base: FlowDocument; theirs: FlowDocument; etag: string | null };

/** Brings two people's drafts together, step by step; nothing that one of them did is lost unseen. */
export function Together(p: {
  meanwhile: Meanwhile | null;
  mine: FlowDocument;
  onTake: (doc: FlowDocument) => void;
  /** Both together, and how an earlier state of one's own looks over what the other did: undo takes back only that. */
  onBoth: (doc: FlowDocument, over: (earlier: FlowDocument) => FlowDocument) => void;
}) {
  const { meanwhile, mine } = p;
  const [taken, setTaken] = useState<Record<string, "mine" | "theirs">>({});
  const all = useMemo(() => {
    if (!meanwhile) return null;
    const { base, theirs } = meanwhile;
    return {
      ...merge(base, mine, theirs, taken),
      own: changesOf(base, mine).rows.length,
      other: changesOf(base, theirs).rows,
    };
  }, [meanwhile, mine, taken]);
  if (!all || !meanwhile) return null;
  return (
    <Dialog open wide onClose={() => {}} title="Somebody else has changed this draft">
      <p className="mb-2">
        They changed {counted(all.other.length)}, you {counted(all.own)} since then.{" "}
        {all.clashes.length === 0
          ? "No two changes touch the same setting, so both are kept."
          : "What only one of you changed is kept. Choose where you changed the same:"}
      </p>
      {all.clashes.length > 0 && (
        <table className="grid-table mb-3" data-testid="clashes">
          <thead>
            <tr>
              <th>Where</th>
              <th>You</th>
              <th>They</th>
            </tr>
          </thead>
          <tbody>
            {all.clashes.map((c) => (
              <tr key={c.key}>
                <td>{c.where}</td>
                {(["mine", "theirs"] as const).map((who) => (
                  <td key={who}>
                    <label className="flex items-baseline gap-2">
                      <input
                        type="radio"
                        name={c.key}
                        checked={(taken[c.key] ?? "theirs") === who}
                        onChange={() => setTaken({ ...taken, [c.key]: who })}
                      />
                      <span className="data break-all">{shown(c[who])}</span>
                    </label>
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <div className="flex flex-wrap gap-2">
        <button
          type="button"
          className="btn btn-go"
          onClick={() => p.onBoth(all.doc, (earlier) => merge(meanwhile.base, earlier, meanwhile.theirs, taken).doc)}
        >
          Bring both together
        </button>
        <button type="button" className="btn" onClick={() => p.onTake(meanwhile.theirs)}>
          Take theirs; undo brings mine back
        </button>
        <button type="button" className="btn" onClick={() => p.onTake(mine)}>
          Take mine; theirs is what undo brings back
        </button>
      </div>
    </Dialog>
  );
}

const counted = (n: number) => (n === 1 ? "one step" : n === 0 ? "nothing in the steps" : `${n} steps`);
const shown = (v: unknown) => (v === undefined ? "removed" : typeof v === "string" ? v : JSON.stringify(v));

/** Tells this tab from others, also when it is loaded again. */
const tab = (() => {
  const known = sessionStorage.getItem("tab") ?? Math.random().toString(36).slice(2);
  sessionStorage.setItem("tab", known);
  return known;
})();

/** Who else looks at a flow just now, as they call themselves. */
export function useOthers(flow: string): string[] {
  const [others, setOthers] = useState<string[]>([]);
  useEffect(() => {
    let gone = false;
    const tell = async () => {
      try {
        const { value } = await call<string[]>(`/api/v1/flows/${enc(flow)}/here`, {
          body: { tab, by: localStorage.getItem("who") ?? "" },
        });
        if (!gone) setOthers((was) => (was.join("\n") === value.join("\n") ? was : value));
      } catch {
        // the page says elsewhere that the application does not answer
      }
    };
    tell();
    const again = setInterval(tell, 5_000);
    return () => {
      gone = true;
      clearInterval(again);
    };
  }, [flow]);
  return others;
}
