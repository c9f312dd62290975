import { useCallback, useEffect, useState } from "react";

/** A number that this browser remembers, such as how wide a person has made something. */
export function useKept(name: string, first: number): [number, (v: number) => void] {
  const [value, setValue] = useState(() => {
    const kept = Number(localStorage.getItem(name) ?? Number.NaN);
    return Number.isFinite(kept) ? kept : first;
  });
  const keep = useCallback(
    (v: number) => {
      setValue(v);
      localStorage.setItem(name, String(v));
    },
    [name],
  );
  return [value, keep];
}

/** The height of the window, in pixels. */
export function useWindowHeight(): number {
  const [height, setHeight] = useState(window.innerHeight);
  useEffect(() => {
    const onResize = () => setHeight(window.innerHeight);
    window.addEventListener("resize", onResize);
    return () => window.removeEventListener("resize", onResize);
  }, []);
  return height;
}
