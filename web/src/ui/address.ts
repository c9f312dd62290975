import { useCallback } from "react";
import { type SetURLSearchParams, useLocation, useSearchParams } from "react-router";

/**
 * What a page keeps of itself in its address: the query, and how to set it. What is set late, by a timer or an answer,
 * after the reader has gone on to another page is dropped; it would take the reader back otherwise, since a page
 * that is left stays until the next one is drawn.
 */
export function useAddress(): [URLSearchParams, SetURLSearchParams] {
  const [search, set] = useSearchParams();
  const { pathname } = useLocation();
  const here = useCallback<SetURLSearchParams>(
    (next, options) => {
      if (new URL(pathname, window.location.origin).pathname === window.location.pathname) set(next, options);
    },
    [set, pathname],
  );
  return [search, here];
}
