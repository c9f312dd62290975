import { startTransition, useEffect, useRef, useState } from "react";
import { flushSync } from "react-dom";

/**
 * A value once it rests: where it is changed again and again in a hurry, as while an arrow is held, only the last one
 * counts, and what is drawn of it gives way to what changes meanwhile. Any other change counts at once. behind tells
 * that the value has gone on; catchUp lets what is drawn follow before anything else is done.
 */
export function useSettled<T>(value: T, same: (a: T, b: T) => boolean, hurried: boolean, ms = 70) {
  const [settled, setSettled] = useState(value);
  const last = useRef(0);
  const behind = hurried && !same(settled, value);
  useEffect(() => {
    if (same(settled, value)) return;
    const soon = performance.now() - last.current < 4 * ms;
    last.current = performance.now();
    if (!behind) {
      setSettled(value);
      return;
    }
    const t = setTimeout(() => startTransition(() => setSettled(value)), soon ? ms : 0);
    return () => clearTimeout(t);
  }, [settled, value, behind, same, ms]);
  const catchUp = () => {
    if (behind) flushSync(() => setSettled(value));
  };
  return { value: behind ? settled : value, behind, catchUp };
}

/** A value once it has rested for so long; texts that somebody types are looked at then. */
export function useRested<T>(value: T, ms = 300): T {
  const [rested, setRested] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setRested(value), ms);
    return () => clearTimeout(timer);
  }, [value, ms]);
  return rested;
}
