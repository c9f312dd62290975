import { useEffect, useRef } from "react";
import { toast } from "sonner";
import { at, copiedOf, paste } from "../model/edit";
import type { FlowDocument, Place, Row } from "../model/model";
import { typing } from "../ui/keys";

/** Steps and ways go from flow to flow as YAML, which a text editor takes as well. */
export function useClipboard(
  row: Row | undefined,
  doc: FlowDocument,
  put: (doc: FlowDocument) => void,
  goTo: (doc: FlowDocument, place: Place) => void,
  remove: () => void,
  together: Place[],
  /** What is no steps is taken for a message. */
  onMessage: (text: string) => void,
) {
  const yaml = useRef<typeof import("yaml") | undefined>(undefined);
  useEffect(() => {
    import("yaml").then((m) => {
      yaml.current = m; // a clipboard waits for nothing, so it is there before
    });
  }, []);
  useEffect(() => {
    const elsewhere = (e: ClipboardEvent) =>
      typing(e as unknown as KeyboardEvent) ||
      !!(e.target as HTMLElement | null)?.closest?.("[aria-label=Desk], .cm-editor") ||
      !window.getSelection()?.isCollapsed;
    const onCopy = (e: ClipboardEvent) => {
      const it = row?.kind === "step" ? row.step : row?.kind === "way" && !row.fixed && !row.split ? row.way : null;
      const all = together.length > 1 ? together.map((p) => at(doc, p)) : it ? [it] : [];
      if (all.length === 0 || !yaml.current || elsewhere(e)) return;
      e.preventDefault();
      const text = yaml.current.stringify(all, { lineWidth: 0, aliasDuplicateObjects: false });
      e.clipboardData?.setData("text/plain", text);
      if (e.type === "cut") remove();
    };
    const onPaste = (e: ClipboardEvent) => {
      const text = e.clipboardData?.getData("text/plain");
      if (!row || !yaml.current || !text || elsewhere(e)) return;
      let copied = null;
      try {
        copied = copiedOf(yaml.current.parse(text));
      } catch {
        // it is some other text
      }
      const r = copied && paste(doc, row.place, copied);
      if (!r) {
        if (copied) toast("A way goes behind a way, or into a route");
        else onMessage(text);
        return;
      }
      e.preventDefault();
      put(r.doc);
      goTo(r.doc, r.place);
    };
    window.addEventListener("copy", onCopy);
    window.addEventListener("cut", onCopy);
    window.addEventListener("paste", onPaste);
    return () => {
      window.removeEventListener("copy", onCopy);
      window.removeEventListener("cut", onCopy);
      window.removeEventListener("paste", onPaste);
    };
  });
}
