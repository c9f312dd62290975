import { type RefObject, useEffect, useRef, useState } from "react";

/** From how many cells on only those in sight are drawn. */
const many = 1500;
/** How high a row is then, in pixels. */
export const rowHigh = 29;
const narrowest = 108;

type Span = { from: number; to: number };
const all: Span = { from: 0, to: Number.POSITIVE_INFINITY };

/** Which rows and columns of a large sheet are in sight, with some around them; of a small one all. */
export function useWindowed(body: RefObject<HTMLDivElement | null>, rows: number, columns: number) {
  const large = rows * columns > many;
  const [seen, setSeen] = useState<{ rows: Span; columns: Span }>({
    rows: { from: 0, to: 60 },
    columns: { from: 0, to: 24 },
  });
  useEffect(() => {
    const sheet = body.current;
    if (!large || !sheet) return;
    const look = () => {
      const wide = sheet.querySelector<HTMLElement>("[data-cell]")?.offsetWidth || narrowest;
      // In steps, so that not every pixel draws anew.
      const span = (from: number, to: number, step: number): Span => ({
        from: Math.floor(from / step) * step - step,
        to: Math.ceil(to / step) * step + step,
      });
      const next = {
        rows: span(sheet.scrollTop / rowHigh, (sheet.scrollTop + sheet.clientHeight) / rowHigh, 4),
        columns: span(sheet.scrollLeft / wide, (sheet.scrollLeft + sheet.clientWidth) / wide, 2),
      };
      setSeen((was) => (JSON.stringify(was) === JSON.stringify(next) ? was : next));
    };
    look();
    sheet.addEventListener("scroll", look, { passive: true });
    const sized = new ResizeObserver(look);
    sized.observe(sheet);
    return () => {
      sheet.removeEventListener("scroll", look);
      sized.disconnect();
    };
  }, [large, body]);
  return { large, rows: large ? seen.rows : all, columns: large ? seen.columns : all };
}

export const within = (s: Span, i: number) => i >= s.from && i <= s.to;

/** Tells which columns are in sight, whenever that changes. */
export function useInSight(
  body: RefObject<HTMLDivElement | null>,
  columns: number,
  onSeen: ((first: number, last: number) => void) | undefined,
) {
  const tell = useRef(onSeen);
  tell.current = onSeen;
  const listens = onSeen !== undefined;
  // biome-ignore lint/correctness/useExhaustiveDependencies: with more columns others are in sight
  useEffect(() => {
    const sheet = body.current;
    if (!sheet || !listens) return;
    const look = () => {
      const wide = sheet.querySelector<HTMLElement>("[data-cell]")?.offsetWidth || narrowest;
      tell.current?.(Math.floor(sheet.scrollLeft / wide), Math.ceil((sheet.scrollLeft + sheet.clientWidth) / wide));
    };
    look();
    sheet.addEventListener("scroll", look, { passive: true });
    return () => sheet.removeEventListener("scroll", look);
  }, [body, columns, listens]);
}
