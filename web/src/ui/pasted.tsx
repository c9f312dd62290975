import type { ReactNode } from "react";
import { Setting } from "./parts";

/** A text that is pasted, or that a file of this computer holds, and that is then read. */
export function Pasted(p: {
  label: string;
  file: string;
  hint?: string;
  error?: string;
  value: string;
  onChange: (text: string) => void;
  /** Reads what stands there; a file is read at once. */
  onRead: (text: string) => void;
  /** What else may be done, beside the button. */
  children?: ReactNode;
}) {
  return (
    <>
      <Setting label={p.label} hint={p.hint} error={p.error}>
        <textarea
          aria-label={p.label}
          className="field data"
          rows={4}
          spellCheck={false}
          value={p.value}
          onChange={(e) => p.onChange(e.target.value)}
        />
      </Setting>
      <div className="mb-2.5 flex items-center gap-3">
        <input
          type="file"
          aria-label={p.file}
          onChange={async (e) => {
            const text = await e.target.files?.[0]?.text();
            if (text === undefined) return;
            p.onChange(text);
            p.onRead(text);
          }}
        />
        <button type="button" className="btn" disabled={!p.value.trim()} onClick={() => p.onRead(p.value)}>
          Read it
        </button>
        {p.children}
      </div>
    </>
  );
}
