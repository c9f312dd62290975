import { useState } from "react";
import { parse, stringify } from "yaml";
import { at } from "../model/edit";
import type { FlowDocument, Place, Step } from "../model/model";
import { setOn, settingOf } from "../model/restructure";
import { viewOf } from "../steps";
import { Setting } from "../ui/parts";

// What every step may have; the rest is of its kind.
const everywhere = ["title", "when", "note", "retry", "within"];
const own = new Set(["id", "kind", "ways", "otherwise", "steps"]);

/** The desk of several steps that are chosen together: one setting for all of them, and what becomes of them. */
export function Many(p: {
  doc: FlowDocument;
  places: Place[];
  onChange: (doc: FlowDocument) => void;
  onRemove: () => void;
  onFold: () => void;
  onExtract: () => void;
  onClear: () => void;
}) {
  const steps = p.places.map((place) => at(p.doc, place) as Step);
  const names = [...new Set([...steps.flatMap((s) => Object.keys(s)), ...everywhere])]
    .filter((n) => !own.has(n))
    .sort();
  const [name, setName] = useState(names.includes("retry") ? "retry" : (names[0] ?? "title"));
  const [text, setText] = useState<string>();
  const now = settingOf(steps, name);
  const shown =
    text ?? (now.differs || now.value === undefined ? "" : stringify(now.value, { lineWidth: 0 }).trimEnd());
  let value: unknown;
  let wrong = "";
  try {
    value = parse(shown);
  } catch (e) {
    wrong = e instanceof Error ? (e.message.split("\n")[0] ?? "") : "it cannot be read";
  }
  const set = (v: unknown) => {
    p.onChange(setOn(p.doc, p.places, name, v));
    setText(undefined);
  };
  return (
    <section
      aria-label="Desk"
      className="shrink-0 overflow-auto border-t-2 border-deep bg-paper"
      style={{ height: 300 }}
    >
      <h2 className="pane-head flex items-baseline gap-3 bg-paper">
        <span className="flex-1">{`${steps.length} steps chosen together`}</span>
        <button type="button" className="btn-bare" onClick={() => p.onFold()}>
          fold
        </button>
        <button type="button" className="btn-bare" onClick={p.onExtract}>
          into a flow of their own
        </button>
        <button type="button" className="btn-bare" onClick={p.onRemove}>
          remove
        </button>
        <button type="button" className="btn-bare" onClick={p.onClear}>
          choose none
        </button>
      </h2>
      <div className="grid grid-cols-[minmax(0,2fr)_minmax(0,3fr)] gap-6 p-3">
        <ol className="min-w-0">
          {steps.map((s) => {
            const { verb, sentence: Words } = viewOf(s.kind);
            return (
              <li key={s.id} className="truncate py-0.5">
                <b className="text-deep">{verb}</b> {typeof Words === "string" ? Words : s.title || s.id}
              </li>
            );
          })}
        </ol>
        <div className="min-w-0">
          <Setting label="One setting on all of them">
            <input
              aria-label="Setting"
              className="field data"
              list="settings-of-many"
              value={name}
              onChange={(e) => {
                setName(e.target.value);
                setText(undefined);
              }}
            />
            <datalist id="settings-of-many">
              {names.map((n) => (
                <option key={n} value={n} />
              ))}
            </datalist>
          </Setting>
          <Setting
            label="Its value, as YAML"
            error={wrong || undefined}
            hint={now.differs ? "they have different values now" : now.value === undefined ? "none of them has it" : ""}
          >
            <textarea
              aria-label="Its value, as YAML"
              className="field data"
              rows={4}
              spellCheck={false}
              value={shown}
              aria-invalid={wrong ? true : undefined}
              onChange={(e) => setText(e.target.value)}
            />
          </Setting>
          <button
            type="button"
            className="btn btn-go"
            disabled={wrong !== "" || name === "" || own.has(name) || shown.trim() === ""}
            onClick={() => set(value)}
          >
            {`Set it on ${steps.length} steps`}
          </button>{" "}
          <button type="button" className="btn" disabled={!steps.some((s) => name in s)} onClick={() => set(undefined)}>
            Take it away
          </button>
        </div>
      </div>
    </section>
  );
}
