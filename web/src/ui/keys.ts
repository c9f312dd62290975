/** True while a person types, when single keys are not commands. */
export function typing(e: KeyboardEvent): boolean {
  const t = e.target as HTMLElement | null;
  return !!t?.closest("input, textarea, select, [contenteditable=true], [role=dialog]");
}

type Named = [key: string, what: string];

const everywhere: Named[] = [
  ["/", "find a flow, a transaction by its reference, a connection or a page"],
  ["?", "the keys of this page"],
];
const sheet: Named[] = [
  ["↑ ↓ ← →, Home, End", "move in the sheet"],
  ["Enter", "go to the step's settings"],
  ["Escape", "back from the settings to the sheet"],
];
const editing: Named[] = [
  ["s", "open the sample of this column"],
  ["a", "add a step below"],
  ["d", "copy the step"],
  ["x", "switch the step off or on"],
  ["Alt ↑, Alt ↓", "move the step, into ways and out of them"],
  ["Shift ↑, Shift ↓", "choose several steps; a click on a number with Shift or Ctrl does so, too"],
  ["f", "fold a way, a split or what is chosen, or unfold it"],
  ["Delete", "remove the step"],
  ["Ctrl C, Ctrl X, Ctrl V", "copy, cut and paste a step or a way, as YAML, here or in another flow"],
  ["Ctrl Z, Ctrl Y", "undo, redo"],
  ["Ctrl ], Ctrl [", "in a text of many lines: indent, the other way"],
];
const mapping: Named[] = [
  ["↑ ↓", "in a map: from line to line"],
  ["type, Enter", "in a map: say what the line is to hold, and take it"],
  ["space", "in a map: take what is most like the line"],
  ["Ctrl F", "in a map: find a line"],
];
const list: Named[] = [
  ["↑ ↓, Home, End", "move in the list"],
  ["Enter", "open the row"],
];

/** The keys of a page, by its address. */
export function keysOf(path: string): Named[] {
  const [, page, name] = path.split("/");
  if (page === "flows" && name) return [...sheet, ...editing, ...mapping, ...everywhere];
  if (page === "transactions" && name) return [...sheet, ...everywhere];
  if (page === "dead-letters") return [...list, ...sheet, ...everywhere];
  if (page === "help") return everywhere;
  return [...list, ...everywhere];
}

const target = "a[href], button:not([disabled])";

/** Arrows go from row to row of a list: to what opens a row. */
export function throughList(e: KeyboardEvent): void {
  const to = { ArrowDown: 1, ArrowUp: -1, Home: Number.NEGATIVE_INFINITY, End: Number.POSITIVE_INFINITY }[e.key];
  const from = e.target as HTMLElement;
  if (to === undefined || e.defaultPrevented || from.closest("[role=grid], [role=menu], [role=listbox], .cm-editor"))
    return;
  const table =
    from.closest("table.grid-table") ?? (from === document.body && document.querySelector("main table.grid-table"));
  if (!table) return;
  const rows = [...table.querySelectorAll<HTMLElement>("tbody tr")].filter((r) => r.querySelector(target));
  const now = rows.findIndex((r) => r.contains(from));
  const next = rows[Math.max(0, Math.min(rows.length - 1, now + to))];
  if (!next) return;
  e.preventDefault();
  next.querySelector<HTMLElement>(target)?.focus();
}
