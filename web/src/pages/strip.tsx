import { useRef, useState } from "react";
import type { MinuteCount } from "../api/client";
import { useCounts } from "../api/queries";
import { Mark } from "../ui/marks";
import { number, span, useNow } from "../ui/time";
import { moment } from "./finding";

const local = (iso: string) => {
  const d = new Date(iso);
  return new Date(d.getTime() - d.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
};

/** How many came when; drag to choose a span. */
export function Strip({
  flow,
  from,
  to,
  onSpan,
}: {
  flow: string;
  from: string;
  to: string;
  onSpan: (from: string, to: string) => void;
}) {
  const now = useNow(15_000);
  const [wide, setWide] = useState(120); // minutes
  const minutes = wide;
  const end = Math.floor(now / 60_000) + 1;
  const start = end - minutes;
  const iso = (m: number) => new Date(m * 60_000).toISOString();
  const third = minutes > 2880 ? Math.floor(minutes / 300) + 1 : 1;
  const bar = third > 60 ? Math.ceil(third / 60) * 60 : third; // minutes that one bar counts
  const counts = useCounts(flow, iso(start), iso(end), bar);
  const box = useRef<HTMLDivElement>(null);
  const [drag, setDrag] = useState<[number, number] | null>(null);
  const total = (c: MinuteCount) => c.underWay + c.waiting + c.delivered + c.turnedAway + c.deadLetters;
  const most = Math.max(4, ...(counts.data ?? []).map(total));
  const minuteAt = (x: number) => {
    const r = box.current?.getBoundingClientRect();
    return r ? start + Math.max(0, Math.min(minutes, Math.round(((x - r.left) / r.width) * minutes))) : start;
  };
  const chosen: [number, number] | null = drag
    ? [Math.min(...drag), Math.max(...drag)]
    : from && to
      ? [new Date(from).getTime() / 60_000, new Date(to).getTime() / 60_000]
      : null;
  const left = (m: number) => `${Math.max(0, Math.min(100, ((m - start) / minutes) * 100))}%`;
  return (
    <section aria-label="When they came" className="relative shrink-0 border-b-2 border-deep bg-sheet px-4 pt-2">
      <div className="absolute top-1 right-4 z-10 flex gap-2 bg-sheet text-[12.5px]">
        <select
          aria-label="How far back"
          className="field !min-h-0 !w-auto !py-0"
          value={wide}
          onChange={(e) => setWide(Number(e.target.value))}
        >
          <option value={120}>two hours</option>
          <option value={1440}>a day</option>
          <option value={10_080}>a week</option>
          <option value={43_200}>30 days</option>
          <option value={525_600}>a year</option>
          <option value={5_256_000}>ten years</option>
        </select>
        <input
          aria-label="From"
          type="datetime-local"
          className="field !min-h-0 !w-auto !py-0"
          value={from ? local(from) : ""}
          onChange={(e) => onSpan(e.target.value ? new Date(e.target.value).toISOString() : "", to)}
        />
        <input
          aria-label="To"
          type="datetime-local"
          className="field !min-h-0 !w-auto !py-0"
          value={to ? local(to) : ""}
          onChange={(e) => onSpan(from, e.target.value ? new Date(e.target.value).toISOString() : "")}
        />
      </div>
      <div
        ref={box}
        className="relative h-14 cursor-crosshair touch-none"
        onPointerDown={(e) => {
          e.currentTarget.setPointerCapture(e.pointerId);
          setDrag([minuteAt(e.clientX), minuteAt(e.clientX)]);
        }}
        onPointerMove={(e) => drag && setDrag([drag[0], minuteAt(e.clientX)])}
        onPointerUp={() => {
          if (drag && drag[0] !== drag[1]) onSpan(iso(Math.min(...drag)), iso(Math.max(...drag)));
          setDrag(null);
        }}
      >
        {chosen && (
          <div
            className="absolute inset-y-0 border-x-2 border-buoy bg-change"
            style={{ left: left(chosen[0]), right: `calc(100% - ${left(chosen[1])})` }}
          />
        )}
        <svg
          width="100%"
          height="100%"
          viewBox={`0 0 ${minutes} 56`}
          preserveAspectRatio="none"
          className="relative"
          role="img"
          aria-label={`${number((counts.data ?? []).reduce((n, c) => n + total(c), 0))} transactions in ${span(minutes * 60_000)}`}
        >
          {counts.data?.map((c) => {
            const x = Math.floor(new Date(c.minute).getTime() / 60_000) - start;
            const scale = 52 / most;
            let y = 56;
            return [
              [c.delivered + c.turnedAway + c.underWay, "var(--color-deep)", 0.5],
              [c.waiting, "var(--color-wait)", 1],
              [c.deadLetters, "var(--color-dead)", 1],
            ].map(([n, colour, opacity]) => {
              const h = (n as number) * scale;
              y -= h;
              return (
                <rect
                  key={`${c.minute}${colour}`}
                  x={x + 0.1 * bar}
                  y={y}
                  width={0.8 * bar}
                  height={h}
                  fill={colour as string}
                  opacity={opacity as number}
                />
              );
            });
          })}
        </svg>
      </div>
      <div className="flex justify-between pb-1 text-[12px] text-quiet">
        <span>{moment(iso(start))}</span>
        <span className="flex items-center gap-3">
          drag to choose a span
          <span className="flex items-center gap-1">
            <Mark state="waiting" size={9} /> waiting
          </span>
          <span className="flex items-center gap-1">
            <Mark state="dead letter" size={9} /> dead letter
          </span>
        </span>
        <span>{moment(iso(end))}</span>
      </div>
    </section>
  );
}
