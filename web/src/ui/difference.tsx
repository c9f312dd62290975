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
              {diffWordsWithSpace(part.value.trimEnd(), other.value.trimEnd()).map((w, j) =>
                w.added ? (
                  <ins key={j} className="bg-mark font-bold no-underline">
                    {w.value}
                  </ins>
                ) : w.removed ? (
                  <del key={j} className="bg-loss">
                    {w.value}
                  </del>
                ) : (
                  <span key={j}>{w.value}</span>
                ),
              )}
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
