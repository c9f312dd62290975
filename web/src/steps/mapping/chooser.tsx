import { Popover } from "radix-ui";
import { useMemo, useRef, useState } from "react";
import type { Source } from "./paths";

const most = 60; // sources shown at once

/** How well a source fits what is searched for, the best first; -1 when it does not at all. */
function fit(s: Source, wanted: string): number {
  const name = s.name.toLowerCase();
  if (name === wanted) return 0;
  if (name.startsWith(wanted)) return 1;
  if (name.includes(wanted)) return 2;
  return `${s.title ?? ""} ${s.value ?? ""} ${s.expression}`.toLowerCase().includes(wanted) ? 3 : -1;
}

/** Finds a source for a line by its name, its title or its value: the way to point from the keyboard. */
export function Chooser(p: {
  label: string;
  sources: Source[];
  /** What is most like the line stands first. */
  like: Source | undefined;
  begins: string;
  onChoose: (expression: string) => void;
  onClose: () => void;
}) {
  const [find, setFind] = useState(p.begins);
  const [at, setAt] = useState(0);
  const input = useRef<HTMLInputElement>(null);
  const found = useMemo(() => {
    const wanted = find.trim().toLowerCase();
    const all = p.like ? [p.like, ...p.sources.filter((s) => s !== p.like)] : p.sources;
    return wanted === ""
      ? all
      : all
          .map((s) => ({ s, n: fit(s, wanted) }))
          .filter(({ n }) => n >= 0)
          .sort((a, b) => a.n - b.n)
          .map(({ s }) => s);
  }, [find, p.sources, p.like]);
  const shown = found.slice(0, most);
  const onKey = (e: React.KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    const one = shown[at];
    if (step !== undefined) setAt((at + step + shown.length) % Math.max(1, shown.length));
    else if (e.key === "Enter" && one) p.onChoose(one.expression);
    else return;
    e.preventDefault();
  };
  return (
    <Popover.Root open onOpenChange={(open) => !open && p.onClose()}>
      <Popover.Anchor />
      <Popover.Portal>
        <Popover.Content
          align="start"
          className="menu w-[460px]"
          collisionPadding={8}
          onOpenAutoFocus={(e) => {
            e.preventDefault(); // it would select the letter that has begun it
            input.current?.focus();
            input.current?.setSelectionRange(p.begins.length, p.begins.length);
          }}
          onCloseAutoFocus={(e) => e.preventDefault()}
        >
          <input
            ref={input}
            role="combobox"
            aria-expanded
            aria-controls="sources"
            aria-activedescendant={shown[at] ? `source-${at}` : undefined}
            aria-label={`A value for ${p.label}`}
            className="field mb-1"
            placeholder="name or value of what is before this step"
            value={find}
            onChange={(e) => {
              setFind(e.target.value);
              setAt(0);
            }}
            onKeyDown={onKey}
          />
          <div id="sources" role="listbox" aria-label={`Values for ${p.label}`} className="max-h-64 overflow-auto">
            {shown.map((s, i) => (
              <div
                key={s.expression}
                id={`source-${i}`}
                role="option"
                tabIndex={-1}
                aria-selected={i === at}
                ref={i === at ? (el) => el?.scrollIntoView({ block: "nearest" }) : undefined}
                className={`flex cursor-pointer items-baseline gap-3 px-2 py-0.5 hover:bg-mark ${i === at ? "bg-mark" : ""}`}
                onClick={() => p.onChoose(s.expression)}
                onKeyDown={onKey}
              >
                <span className="data shrink-0">{s.name}</span>
                <span className="min-w-0 flex-1 truncate text-quiet">{s.list ? "a list" : s.title}</span>
                <span className="data max-w-48 shrink-0 truncate text-done">{s.value}</span>
              </div>
            ))}
            {shown.length === 0 && (
              <p className="px-2 py-1 text-quiet">Nothing before this step is called so, or is that.</p>
            )}
          </div>
          {found.length > most && <p className="px-2 pt-1 text-quiet">{found.length - most} more</p>}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
