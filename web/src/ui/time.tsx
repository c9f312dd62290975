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

/** Milliseconds from one instant to another, with the microseconds that Date drops. */
function between(from: string, to: string): number {
  const micros = (at: string) => {
    const fraction = /\.(\d+)/.exec(at)?.[1] ?? "";
    return Math.floor(Date.parse(at) / 1000) * 1e6 + Number(fraction.slice(0, 6).padEnd(6, "0"));
  };
  return (micros(to) - micros(from)) / 1000;
}

/** How long something took, in words. */
export function took(from: string, to: string): string {
  const ms = between(from, to);
  return ms > 0 ? span(ms) : "ended at once";
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

/** The reader's time zone, as the browser knows it. */
export const ownZone = () => Intl.DateTimeFormat().resolvedOptions().timeZone;

/** A day and time as the reader's clocks show it. */
export const local = (at: string) =>
  new Date(at).toLocaleString("en-GB", {
    weekday: "short",
    day: "numeric",
    month: "short",
    hour: "2-digit",
    minute: "2-digit",
    second: "2-digit",
  });

export const number = (n: number) => n.toLocaleString("en-GB").replace(/,/g, "\u2009");

const sizes: [string, number][] = [
  ["TiB", 2 ** 40],
  ["GiB", 2 ** 30],
  ["MiB", 2 ** 20],
  ["KiB", 2 ** 10],
];

/** Writes a number of bytes as people read it (IEC 80000-13): 1.5 GiB. */
export function size(bytes: number): string {
  const [unit, of] = sizes.find(([, of]) => bytes >= of) ?? ["bytes", 1];
  return `${Number((bytes / of).toFixed(1))} ${unit}`;
}
