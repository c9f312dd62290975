import {
  autocompletion,
  type CompletionContext,
  closeCompletion,
  completionKeymap,
  completionStatus,
} from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { json, jsonParseLinter } from "@codemirror/lang-json";
import { yaml } from "@codemirror/lang-yaml";
import { bracketMatching, HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { type Diagnostic, linter, lintGutter } from "@codemirror/lint";
import { Annotation, Compartment, EditorState, type Extension, Prec } from "@codemirror/state";
import { drawSelection, EditorView, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import type { Finding } from "../api/client";
import { inserted, remember } from "./caret";

export type Completion = { label: string; detail?: string };
export type EditorProps = {
  label: string;
  value: string;
  onChange: (v: string) => void;
  language: "expression" | "template" | "writing" | "json" | "yaml" | "text"; // writing: a template of many lines
  completions?: Completion[];
  findings?: Finding[];
  invalid?: boolean;
  autoFocus?: boolean;
  selected?: { from: number; to: number }; // where the caret was in the plain field that this one follows
};

const look = EditorView.theme({
  "&": { fontSize: "12.5px", backgroundColor: "transparent", color: "var(--color-ink)" },
  "&.cm-focused": { outline: "none" },
  ".cm-scroller": { fontFamily: "var(--font-data)", fontWeight: "450", lineHeight: "1.5" },
  ".cm-content": { caretColor: "var(--color-ink)" },
  ".cm-cursor": { borderLeftColor: "var(--color-ink)" },
  ".cm-gutters": { backgroundColor: "transparent", color: "var(--color-quiet)", border: "none" },
  ".cm-tooltip": {
    backgroundColor: "var(--color-sheet)",
    border: "1px solid var(--color-line)",
    color: "var(--color-ink)",
  },
  ".cm-tooltip-autocomplete > ul > li[aria-selected]": {
    background: "var(--color-deep)",
    color: "var(--color-ondeep)",
  },
  ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": { background: "var(--color-mark) !important" },
});

/** Marks changes that a person did not type here. */
const fromOutside = Annotation.define<boolean>();

// The roles of the theme, so that documents read well in both.
const colours = HighlightStyle.define([
  { tag: tags.propertyName, color: "var(--color-deep)" },
  { tag: [tags.string, tags.special(tags.string)], color: "var(--color-ink)" },
  { tag: [tags.number, tags.bool, tags.null], color: "var(--color-buoy)" },
  { tag: [tags.comment, tags.separator, tags.punctuation], color: "var(--color-quiet)" },
  { tag: tags.invalid, color: "var(--color-dead)" },
]);

/**
 * Escape pressed right behind a letter leaves the editor: offers that are only being looked for, and that nobody sees
 * yet, do not take the key for themselves.
 */
const leaveAtOnce = keymap.of([
  {
    key: "Escape",
    run: (view) => {
      if (completionStatus(view.state) === "pending") closeCompletion(view);
      return false;
    },
  },
]);

/** An editor for expressions (one line), templates and documents. */
export default function Editor(p: EditorProps) {
  const holder = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const now = useRef(p);
  now.current = p;
  const lint = useRef(new Compartment());
  const sent = useRef<string[]>([]); // typed here and not yet come back
  // biome-ignore lint/correctness/useExhaustiveDependencies: the editor is made once and reads its props through a ref
  useEffect(() => {
    if (!holder.current) return;
    const oneLine = p.language === "expression" || p.language === "template";
    const extensions: Extension[] = [
      look,
      drawSelection(),
      bracketMatching(),
      syntaxHighlighting(colours),
      EditorView.contentAttributes.of({ "aria-label": p.label, spellcheck: "false" }),
      EditorView.updateListener.of((u) => {
        if (!u.docChanged || u.transactions.some((t) => t.annotation(fromOutside))) return;
        const text = u.state.doc.toString();
        sent.current.push(text);
        now.current.onChange(text);
      }),
    ];
    if (p.completions) {
      extensions.push(
        Prec.highest(leaveAtOnce),
        autocompletion({
          override: [(c) => complete(c, now.current.completions ?? [], p.language !== "expression")],
          icons: false,
        }),
      );
    }
    if (oneLine) {
      extensions.push(
        EditorState.transactionFilter.of((t) =>
          t.newDoc.lines > 1 && t.docChanged && !now.current.value.includes("\n") ? [] : t,
        ),
        keymap.of([...completionKeymap, { key: "Enter", run: () => true }, ...defaultKeymap]),
        EditorView.lineWrapping,
      );
    } else {
      extensions.push(history(), lineNumbers(), keymap.of([...completionKeymap, ...historyKeymap, ...defaultKeymap]));
      if (p.language === "json") extensions.push(json(), linter(jsonParseLinter()), lintGutter());
      if (p.language === "yaml") extensions.push(yaml(), lint.current.of([]), lintGutter());
    }
    const end = p.value.replace(/\r\n?/g, "\n").length; // as the plain field and the editor count
    const selection = p.selected && { anchor: Math.min(p.selected.from, end), head: Math.min(p.selected.to, end) };
    const v = new EditorView({
      state: EditorState.create({ doc: p.value, extensions, ...(selection ? { selection } : {}) }),
      parent: holder.current,
    });
    view.current = v;
    // What a person points at goes to the cursor of the editor that they were in last.
    const onFocus = () =>
      remember({
        gone: () => !v.dom.isConnected,
        insert: (path) => {
          const { from, to } = v.state.selection.main;
          const text = inserted(
            v.state.doc.toString(),
            from,
            path,
            p.language === "template" || p.language === "writing",
          );
          v.dispatch({ changes: { from, to, insert: text }, selection: { anchor: from + text.length } });
          v.focus();
        },
      });
    v.dom.addEventListener("focusin", onFocus);
    if (p.autoFocus) v.focus();
    return () => v.destroy();
  }, []);
  useEffect(() => {
    // What comes back may be the echo of an earlier key while a person types on;
    // only a value that was never typed here comes from outside.
    const echo = sent.current.lastIndexOf(p.value);
    sent.current = echo < 0 ? [] : sent.current.slice(echo + 1);
    const v = view.current;
    if (echo < 0 && v && v.state.doc.toString() !== p.value) {
      v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: p.value }, annotations: fromOutside.of(true) });
    }
  }, [p.value]);
  useEffect(() => {
    if (p.language !== "yaml") return;
    view.current?.dispatch({
      effects: lint.current.reconfigure(linter((v) => diagnostics(v, p.findings ?? []), { delay: 0 })),
    });
  }, [p.findings, p.language]);
  const tall = p.language !== "expression" && p.language !== "template";
  return (
    <div
      ref={holder}
      className={`${tall ? "h-full overflow-auto bg-sheet" : "field !px-1 !py-0.5"} ${p.invalid ? "!border-dead" : ""} focus-within:outline-2 focus-within:outline-buoy`}
    />
  );
}

function diagnostics(v: EditorView, findings: Finding[]): Diagnostic[] {
  return findings.map((f) => {
    const line = v.state.doc.line(Math.min(Math.max(f.line, 1), v.state.doc.lines));
    const from = Math.min(line.from + Math.max(f.column - 1, 0), line.to);
    return {
      from,
      to: line.to,
      severity: f.level === "error" ? "error" : "warning",
      message: f.message + (f.repair ? ` (${f.repair})` : ""),
    };
  });
}

function complete(c: CompletionContext, all: Completion[], template: boolean) {
  if (template) {
    const before = c.state.sliceDoc(0, c.pos);
    if (before.lastIndexOf("${") <= before.lastIndexOf("}")) return null;
  }
  const word = c.matchBefore(/[\w.[\]"-]*/);
  if (!word || (word.from === word.to && !c.explicit)) return null;
  return {
    from: word.from,
    options: all.map((o) => ({ label: o.label, detail: o.detail })),
    validFor: /^[\w.[\]"-]*$/,
  };
}
