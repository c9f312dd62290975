import { useState } from "react";
import { insertAtCursor } from "./caret";
import { Code, type Completion } from "./code";
import { Setting, Text } from "./parts";

/** Values by name, such as headers, parameters or vars; a name that is new gets an empty value. */
export function NamedValues(p: {
  label: string;
  hint?: string;
  error?: string;
  of: Record<string, unknown>;
  /** Whether values are templates; otherwise they are expressions. */
  template: boolean;
  /** Whether what a person picks in a message stands for itself, and not for a hole in a text. */
  plain?: boolean;
  /** What a new name is called, and what the button says that adds it. */
  begin: string;
  add: string;
  completions: Completion[];
  errorOf: (name: string) => string | undefined;
  onFill?: (fill: (path: string) => void) => void;
  put: (entries: [string, unknown][]) => void;
}) {
  const all = Object.entries(p.of);
  // A name that is half typed may be that of another value; it counts when it is none.
  const [typed, setTyped] = useState<{ i: number; name: string } | null>(null);
  const replace = (i: number, by: [string, unknown]) => p.put(all.map((e, j) => (j === i ? by : e)));
  return (
    <Setting label={p.label} hint={p.hint} error={p.error}>
      {all.map(([name, value], i) => {
        const error = p.errorOf(name);
        return (
          <div key={i} className="mb-1">
            <div className="flex items-start gap-1.5">
              <div className="w-32 shrink-0">
                <Text
                  mono
                  label={`${p.label}, name ${i + 1}`}
                  value={typed?.i === i ? typed.name : name}
                  invalid={typed?.i === i && all.some(([n], j) => j !== i && n === typed.name)}
                  onChange={(n) => {
                    setTyped({ i, name: n });
                    if (!all.some(([o], j) => j !== i && o === n)) replace(i, [n, value]);
                  }}
                />
              </div>
              <div
                className="min-w-0 flex-1"
                onFocus={() =>
                  p.onFill?.(
                    (path) =>
                      (!p.plain && insertAtCursor(path)) ||
                      replace(i, [name, p.template && !p.plain ? `${value}\${${path}}` : path]),
                  )
                }
              >
                <Code
                  label={`${p.label}, value of ${name}`}
                  language={p.template ? "template" : "expression"}
                  value={String(value ?? "")}
                  onChange={(v) => replace(i, [name, v])}
                  completions={p.completions}
                  invalid={!!error}
                />
              </div>
              <button
                type="button"
                className="btn !px-2"
                aria-label={`Remove ${name}`}
                onClick={() => p.put(all.filter((_, j) => j !== i))}
              >
                −
              </button>
            </div>
            {typed?.i === i && all.some(([n], j) => j !== i && n === typed.name) && (
              <p role="alert" className="text-[12.5px] text-dead">
                There is a {typed.name} already; it keeps the name {name} until this is another one.
              </p>
            )}
            {error && (
              <p role="alert" className="text-[12.5px] text-dead">
                {error}
              </p>
            )}
          </div>
        );
      })}
      <button
        type="button"
        className="btn-bare"
        onClick={() => {
          let name = p.begin;
          for (let i = 2; all.some(([n]) => n === name); i++) name = `${p.begin}${i}`;
          p.put([...all, [name, p.template ? "" : '""']]);
        }}
      >
        + {p.add}
      </button>
    </Setting>
  );
}
