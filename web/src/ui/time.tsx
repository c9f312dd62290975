import { useEffect, useState } from "react";

/** The present moment, anew every so many milliseconds. */
export function useNow(every = 1000): number {
  const [now, setNow] = useState(Date.now());
  useEffect(() => {
    const t = setInterval(() => setNow(Date.now()), every);
    return () => clearInterval(t);
  }, [every]);
  return now;
}

/** A span in words: 41 ms, 4.0 s, 2 min 31 s, 3 h 5 min. */
export function span(ms: number): string {
  const abs = Math.max(0, ms);
  if (abs === 0) return "0 s";
  if (abs < 1) return `${abs.toFixed(2)} ms`;
  if (abs < 1000) return `${abs < 10 ? abs.toFixed(1) : Math.round(abs)} ms`;
  if (abs < 10_000) return `${(abs / 1000).toFixed(1)} s`;
  const s = Math.round(abs / 1000);
  if (s < 60) return `${s} s`;
  const min = Math.floor(s / 60);
  if (min < 60) return s % 60 ? `${min} min ${s % 60} s` : `${min} min`;
  const h = Math.floor(min / 60);
  if (h < 48) return min % 60 ? `${h} h ${min % 60} min` : `${h} h`;
  return `${Math.floor(h / 24)} days`;
}

/** A rough age: seconds, minutes, hours, days. */
export function age(ms: number): string {
  const s = Math.max(0, ms) / 1000;
  if (s < 10) return `${s.toFixed(0)} s`;
  if (s < 60) return `${Math.round(s)} s`;
  if (s < 3600) return `${Math.round(s / 60)} min`;
  if (s < 172_800) return `${Math.round(s / 3600)} h`;
  return `${Math.round(s / 86_400)} days`;
}

export function clock(iso: string): string {
  return new Date(iso).toLocaleTimeString("en-GB");
}

/** A local time with the exact instant on hover. */
export function Time({ at, withDate = false }: { at: string; withDate?: boolean }) {
  const d = new Date(at);
  const day = d.toLocaleDateString("en-GB", { day: "numeric", month: "short", year: "numeric" });
  const ms = String(d.getMilliseconds()).padStart(3, "0");
  return (
    <time dateTime={at} title={at}>
      {withDate ? `${day}, ${clock(at)}.${ms}` : clock(at)}
    </time>
  );
}

export const number = (n: number) => n.toLocaleString("en-GB").replace(/,/g, "\u2009");
