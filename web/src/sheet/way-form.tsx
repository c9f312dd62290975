import { at, update } from "../model/edit";
import type { entryOf, Row, Way } from "../model/model";
import { ConditionEditor } from "../steps/mapping/condition";
import { valueAt } from "../steps/mapping/use-map";
import { Setting } from "../ui/parts";
import { type DeskProps, type FormExtra, LazyText } from "./step-form";

/** What a way is taken by, or why it has no settings. */
export function WayForm(
  p: DeskProps & FormExtra & { row: Extract<Row, { kind: "way" }>; entry: ReturnType<typeof entryOf> },
) {
  const { row } = p;
  if (row.split)
    return (
      <p className="p-3 text-quiet">
        The steps below run once for each part. In them <span className="data">part</span> is the item,{" "}
        <span className="data">index</span> counts from 0 and <span className="data">last</span> tells the last one. Add
        the first of them with “add below”.
      </p>
    );
  if (row.fixed === "else")
    return (
      <p className="p-3 text-quiet">
        The steps below run when <span className="data">{row.route.id}</span> fails, in its place; then the message{" "}
        {(row.route.else as { then?: string } | undefined)?.then === "go on"
          ? "goes on behind it"
          : "ends, turned away with the reason"}
        . In them <span className="data">caught</span> is what failed: step, kind, class, reason.
      </p>
    );
  if (row.fixed === "dead")
    return (
      <p className="p-3 text-quiet">
        The steps below run once for each dead letter of this flow, on the message as it came in. In them{" "}
        <span className="data">letter</span> is about it: reason, step, reference, class, transaction, at. Should they
        fail, that is a dead letter that nobody is told of: they cannot loop.
      </p>
    );
  if (row.otherwise)
    return (
      <p className="p-3 text-quiet">
        Takes what no other way takes. Add steps below, so that nothing ends without a word.
      </p>
    );
  const way = at(p.doc, row.place) as Way;
  const error = p.findings.find((f) => f.pointer === `${row.pointer}/when`);
  const put = (part: Partial<Way>, mark: string) =>
    p.onChange(
      update(p.doc, row.place, () => ({ ...way, ...part })),
      row.pointer + mark,
    );
  return (
    <div className="p-3">
      <Setting label="Name" error={p.findings.find((f) => f.pointer === `${row.pointer}/name`)?.message}>
        <LazyText label="Name" value={way.name} onCommit={(name) => put({ name }, "name")} />
      </Setting>
      {row.route.kind === "scatter" ? (
        <p className="text-quiet">
          The steps below work on a copy of the message. What their last delivery is answered, or the body that a step
          behind it makes, is <span className="data">replies.{way.name}</span> behind the scatter.
        </p>
      ) : (
        <Setting label="Taken when" error={error && error.message + (error.repair ? `; ${error.repair}` : "")}>
          <ConditionEditor
            key={row.pointer}
            label="Taken when"
            value={String(way.when ?? "")}
            onChange={(when) => put({ when }, "when")}
            completions={p.completions}
            invalid={!!error}
            valueOf={valueAt(p.entry)}
            onFill={p.onFill}
            points
          />
        </Setting>
      )}
    </div>
  );
}
