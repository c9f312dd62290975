import { diffLines, diffWordsWithSpace } from "diff";

/** What a repair changes: the lines that differ, and in them the words. */
export function Difference({ before, after }: { before: string; after: string }) {
  const parts = diffLines(before, after);
  return (
    <div className="data mt-3 border-t border-line pt-2" data-testid="difference">
      {parts.map((part, i) => {
        const other = parts[i + 1];
        if (part.removed && other?.added)
          return (
            <pre key={i} className="whitespace-pre-wrap">
              <Words was={part.value.trimEnd()} is={other.value.trimEnd()} />
            </pre>
          );
        if ((part.added && !parts[i - 1]?.removed) || part.removed)
          return (
            <pre key={i} className={`whitespace-pre-wrap ${part.added ? "bg-mark" : "bg-loss"}`}>
              {part.value.trimEnd().replace(/^/gm, part.added ? "+ " : "− ")}
            </pre>
          );
        return null;
      })}
    </div>
  );
}

/** Two texts as one, with the words that are gone and those that have come. */
export function Words({ was, is }: { was: string; is: string }) {
  return diffWordsWithSpace(was, is).map((w, i) =>
    w.added ? (
      <ins key={i} className="bg-mark px-0.5 font-bold no-underline">
        {w.value}
      </ins>
    ) : w.removed ? (
      <del key={i} className="bg-loss px-0.5">
        {w.value}
      </del>
    ) : (
      <span key={i}>{w.value}</span>
    ),
  );
}
