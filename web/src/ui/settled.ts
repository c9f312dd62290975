import { startTransition, useEffect, useRef, useState } from "react";

/**
 * A value once it rests: where it changes again and again, as while an arrow is held, only the last one counts. What
 * is drawn of it may take its time, and gives way to what changes meanwhile.
 */
export function useSettled<T>(value: T, same: (a: T, b: T) => boolean, ms = 70): T {
  const [settled, setSettled] = useState(value);
  const last = useRef(0);
  const moved = !same(settled, value);
  useEffect(() => {
    if (!moved) return;
    const now = performance.now();
    const wait = now - last.current < 4 * ms ? ms : 0;
    last.current = now;
    const t = setTimeout(() => startTransition(() => setSettled(value)), wait);
    return () => clearTimeout(t);
  }, [moved, value, ms]);
  return moved ? settled : value;
}
