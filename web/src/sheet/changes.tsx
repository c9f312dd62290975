import { diffWordsWithSpace } from "diff";
import type { Change, SettingChange } from "../model/changes";
import type { Row } from "../model/model";
import { Words } from "../ui/difference";
import { RowText } from "./sheet";

const nameOf = (r: Row) =>
  r.kind === "step" ? r.step.id : r.kind === "way" ? `${r.route.id}: ${r.way.name}` : "intake";

/** What differs between two documents, in words: steps as sentences, what is other marked. */
export function Changes({ flow, rows }: { flow: SettingChange[]; rows: Change[] }) {
  if (!flow.length && !rows.length) return <p className="text-quiet">Nothing that a message would notice.</p>;
  return (
    <>
      {flow.map((s) => (
        <p key={s.name}>
          The flow: <Setting {...s} />
        </p>
      ))}
      {rows.map((c) => (
        <div key={c.kind + c.row.kind + c.row.key}>
          <span className="mr-1.5 text-quiet">{c.row.n}</span>
          {c.kind !== "changed" && <b className="mr-1 text-buoy">{c.kind}</b>}
          {c.kind === "changed" && c.settings.length > 0 ? (
            <>
              {c.row.kind === "intake" ? (
                <b className="text-deep">Intake</b>
              ) : (
                <b className="text-deep">{nameOf(c.row)}</b>
              )}
              :{" "}
              {c.settings.map((s, i) => (
                <span key={i}>
                  {i > 0 && "; "}
                  <Setting {...s} />
                </span>
              ))}
            </>
          ) : (
            <span className={c.kind === "removed" ? "text-quiet line-through" : ""}>
              <RowText row={c.row} intake="Intake" />
            </span>
          )}
        </div>
      ))}
    </>
  );
}

/** A setting with what it was and what it is, word by word. */
function Setting({ name, was, is }: SettingChange) {
  const words = was === null || is === null ? [] : diffWordsWithSpace(was, is);
  const stays = words.reduce((n, w) => n + (w.added || w.removed ? 0 : w.value.length), 0);
  const another = stays * 2 < Math.max(was?.length ?? 0, is?.length ?? 0); // too little stays to be read word by word
  return (
    <>
      {name}{" "}
      <span className="data">
        {another ? (
          <>
            {was !== null && <del className="bg-loss px-0.5">{was}</del>}{" "}
            {is !== null && <ins className="bg-change px-0.5 no-underline">{is}</ins>}
          </>
        ) : (
          <Words was={was ?? ""} is={is ?? ""} />
        )}
      </span>
    </>
  );
}
