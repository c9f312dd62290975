import { useEffect, useRef, useState } from "react";
import { toast } from "sonner";
import type { Finding } from "../api/client";
import { Code } from "../ui/code";
import { FindingList, says } from "../ui/parts";

/** Findings for which a text is no flow yet. */
export const shapes = ["syntax", "unknown-key", "missing-key", "wrong-value", "wrong-type"];

/** The document as its author writes it, with what is wrong beside it. */
export function YAML({
  text,
  findings,
  onText,
}: {
  text: string;
  findings: Finding[];
  onText: (t: string) => Promise<void>;
}) {
  const [own, setOwn] = useState(text);
  const typed = useRef(text);
  useEffect(() => {
    if (text !== typed.current) {
      typed.current = text;
      setOwn(text);
    }
  }, [text]);
  const latest = useRef(onText);
  latest.current = onText;
  // What was typed counts also when the person leaves at once.
  const pending = useRef<string | null>(null);
  pending.current = own === text ? null : own;
  useEffect(
    () => () => {
      if (pending.current !== null) latest.current(pending.current).catch(() => {});
    },
    [],
  );
  useEffect(() => {
    if (own === text) return;
    const t = setTimeout(() => latest.current(own).catch((e) => toast.error(says(e))), 150);
    return () => clearTimeout(t);
  }, [own, text]);
  return (
    <div className="grid min-h-0 flex-1 grid-cols-[1fr_340px]" data-own-undo>
      <Code
        label="The flow as YAML"
        language="yaml"
        value={own}
        findings={findings}
        onChange={(t) => {
          typed.current = t;
          setOwn(t);
        }}
      />
      <aside className="overflow-auto border-l border-line p-4">
        {own !== text && findings.some((f) => f.level === "error" && shapes.includes(f.code)) && (
          <p role="alert" className="mb-3 border-l-4 border-dead bg-loss px-3 py-2">
            What is written here cannot be read as a flow. It is kept here; the sheet, and what is saved, are as they
            were before it, until it is mended.
          </p>
        )}
        <h2>Findings</h2>
        {findings.length === 0 ? (
          <p className="text-quiet">Nothing to find fault with.</p>
        ) : (
          <FindingList findings={findings} />
        )}
      </aside>
    </div>
  );
}
