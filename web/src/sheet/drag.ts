import { type PointerEvent, type RefObject, useRef, useState } from "react";
import type { Gap } from "../model/restructure";

/** Steps that are dragged by their numbers: where they may go below a row, and what is done when they are let go. */
export type Drag = { gaps: (row: number) => Gap[]; drop: (from: number, to: Gap) => void };

const indent = 26; // pixels a way stands further in
const numbers = 34;

/** Follows a pointer that drags a row, and says behind which row and how far in it would go. */
export function useDrag(body: RefObject<HTMLDivElement | null>, drag: Drag | undefined) {
  const [dropping, setDropping] = useState<{ row: number; depth: number } | null>(null);
  const at = useRef<{ from: number; x: number; y: number; moved: boolean; gap: Gap | null } | null>(null);
  const grab = (e: PointerEvent<HTMLElement>, from: number) => {
    if (!drag || e.button !== 0) return;
    at.current = { from, x: e.clientX, y: e.clientY, moved: false, gap: null };
    const move = (m: globalThis.PointerEvent) => {
      const d = at.current;
      if (!d) return;
      if (!d.moved && Math.hypot(m.clientX - d.x, m.clientY - d.y) < 5) return;
      d.moved = true;
      m.preventDefault();
      near(body.current, m.clientY);
      const row = rowUnder(body.current, m.clientX, m.clientY);
      const gaps = row === null ? [] : drag.gaps(row);
      const left = body.current?.getBoundingClientRect().left ?? 0;
      const asked = Math.round((m.clientX - left - numbers) / indent) - 1;
      // The gap that stands as far in as the pointer.
      d.gap = gaps.reduce<Gap | null>(
        (best, g) => (!best || Math.abs(g.depth - asked) < Math.abs(best.depth - asked) ? g : best),
        null,
      );
      setDropping(d.gap && row !== null ? { row, depth: d.gap.depth } : null);
    };
    const end = (dropped: boolean) => {
      window.removeEventListener("pointermove", move);
      window.removeEventListener("pointerup", up);
      window.removeEventListener("pointercancel", cancel);
      window.removeEventListener("keydown", onEscape, true);
      const d = at.current;
      at.current = null;
      setDropping(null);
      if (dropped && d?.moved && d.gap) drag.drop(d.from, d.gap);
      if (d?.moved) window.addEventListener("click", swallow, { capture: true, once: true });
      setTimeout(() => window.removeEventListener("click", swallow, true));
    };
    const up = () => end(true);
    const cancel = () => end(false);
    const onEscape = (k: KeyboardEvent) => {
      if (k.key !== "Escape") return;
      k.preventDefault();
      k.stopPropagation();
      end(false);
    };
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", up);
    window.addEventListener("pointercancel", cancel);
    window.addEventListener("keydown", onEscape, true);
  };
  return { dropping, grab };
}

const swallow = (e: Event) => {
  e.stopPropagation();
  e.preventDefault();
};

/** The row under a point: the one behind whose upper half it lies, or else the row before. */
function rowUnder(body: HTMLElement | null, x: number, y: number): number | null {
  const under = document.elementsFromPoint(x, y).find((e) => body?.contains(e) && e.closest("[data-row]"));
  const row = under?.closest<HTMLElement>("[data-row]");
  const cell = under?.closest<HTMLElement>("[role=rowheader], [role=gridcell]");
  if (!row || !cell) return null;
  const box = cell.getBoundingClientRect();
  const n = Number(row.dataset.row);
  return y < box.top + box.height / 2 ? Math.max(0, n - 1) : n;
}

/** Scrolls where a row is dragged to the edge. */
function near(body: HTMLElement | null, y: number) {
  if (!body) return;
  const box = body.getBoundingClientRect();
  if (y < box.top + 60) body.scrollTop -= 12;
  else if (y > box.bottom - 30) body.scrollTop += 12;
}
