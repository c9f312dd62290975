import { type ComponentType, useEffect, useRef, useState } from "react";
import { flushSync } from "react-dom";
import type { Completion, EditorProps } from "./editor";

export type CodeProps = Omit<EditorProps, "selected">;
export type { Completion };

// The editor's code is some hundred kilobytes, so it comes by itself, once, when the first field needs it.
let Editor: ComponentType<EditorProps> | undefined;
let coming: Promise<void> | undefined;
const come = () => {
  coming ??= import("./editor").then((m) => {
    Editor = m.default;
  });
  return coming;
};

/**
 * A field for expressions, templates and documents. It begins as a plain text field, in which one can type at once, and
 * becomes an editor when somebody goes into it: making one takes about as long as drawing three frames, and a desk has
 * ten of them of which one is used. Documents, which are read more than written, become editors as soon as there is
 * time. What was typed, the caret and the selection are taken along.
 */
export function Code(p: CodeProps) {
  const plain = useRef<HTMLTextAreaElement>(null);
  const pointing = useRef(false); // a press that is not over yet, whose selection is still being made
  const composing = useRef(false);
  const [selected, setSelected] = useState<EditorProps["selected"]>();
  const [editor, setEditor] = useState(false);
  const tall = p.language !== "expression" && p.language !== "template";
  const become = () => {
    const at = plain.current;
    if (!at || !Editor || composing.current || pointing.current) return;
    const inside = document.activeElement === at;
    if (!inside && !tall) return;
    flushSync(() => {
      if (inside) setSelected({ from: at.selectionStart, to: at.selectionEnd });
      setEditor(true);
    });
  };
  const now = useRef(become);
  now.current = become;
  const entered = () => {
    if (Editor) become();
    else void come().then(() => now.current());
  };
  useEffect(() => {
    let wait: number | undefined;
    let gone = false;
    void come().then(() => {
      if (gone) return;
      if (!tall) now.current();
      else wait = whenIdle(() => now.current());
    });
    return () => {
      gone = true;
      if (wait !== undefined) notWhenIdle(wait);
    };
  }, [tall]);
  if (editor && Editor) return <Editor {...p} autoFocus={selected !== undefined} selected={selected} />;
  return (
    <div
      className={`${tall ? "h-full overflow-auto bg-sheet" : "field !px-1 !py-0.5"} ${p.invalid ? "!border-dead" : ""} focus-within:outline-2 focus-within:outline-buoy`}
    >
      <textarea
        ref={plain}
        aria-label={p.label}
        value={p.value}
        // biome-ignore lint/a11y/noAutofocus: asked for where a form is opened in order to write in it
        autoFocus={p.autoFocus}
        spellCheck={false}
        rows={tall ? undefined : Math.max(1, p.value.split("\n").length)}
        className={`plain-code ${tall ? "h-full !pl-12" : ""}`}
        onChange={(e) =>
          p.onChange(tall || p.value.includes("\n") ? e.target.value : e.target.value.replace(/\n/g, ""))
        }
        onFocus={entered}
        onPointerDown={() => {
          pointing.current = true;
          const over = () => {
            for (const e of ends) window.removeEventListener(e, over);
            pointing.current = false;
            entered();
          };
          for (const e of ends) window.addEventListener(e, over);
        }}
        onCompositionStart={() => {
          composing.current = true;
        }}
        onCompositionEnd={() => {
          composing.current = false;
          entered();
        }}
      />
    </div>
  );
}

const ends = ["pointerup", "pointercancel"] as const;

// Not every browser tells when it is idle; a moment behind the drawing will do there.
const whenIdle: (f: () => void) => number =
  typeof requestIdleCallback === "function" ? (f) => requestIdleCallback(f) : (f) => window.setTimeout(f, 50);
const notWhenIdle: (n: number) => void =
  typeof cancelIdleCallback === "function" ? cancelIdleCallback : window.clearTimeout;
