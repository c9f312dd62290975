import { useVirtualizer } from "@tanstack/react-virtual";
import { type RefObject, useEffect } from "react";

/** What is read of a list a page at a time, as far as an endless list has to know. */
type Paged = { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown };

/** Draws of a list the rows that are seen, each so high in pixels, and reads the next page before its end comes up. */
export function useEndless(count: number, height: number, scroller: RefObject<HTMLElement | null>, paged: Paged) {
  const virtual = useVirtualizer({
    count,
    getScrollElement: () => scroller.current,
    estimateSize: () => height,
    overscan: 12,
  });
  const items = virtual.getVirtualItems();
  const last = items.at(-1)?.index ?? 0;
  useEffect(() => {
    if (last > count - 20 && paged.hasNextPage && !paged.isFetchingNextPage) paged.fetchNextPage();
  }, [last, count, paged]);
  return { virtual, items };
}

/** The pages of a list cut to the first, for reading it anew from its top. */
export const firstOf = <P, K>(old: { pages: P[]; pageParams: K[] } | undefined) =>
  old && { pages: old.pages.slice(0, 1), pageParams: old.pageParams.slice(0, 1) };
