import { Link } from "react-router";
import { useAlarms } from "../api/queries";
import { age, number, span, useNow } from "../ui/time";

/** A value with its unit, as people say it. */
export function amount(value: number, unit: string): string {
  if (unit === "min") return span(value * 60_000);
  if (unit === "%") return `${Math.round(value * 10) / 10} %`;
  const n = Math.round(value * 10) / 10;
  return `${number(n)} ${n === 1 ? unit.replace(/s$/, "") : unit}`;
}

/** What rings, on the page of flows. */
export function AlarmLines() {
  const alarms = useAlarms();
  const now = useNow(5000);
  const rings = alarms.data?.filter((a) => !a.taken) ?? [];
  const taken = (alarms.data?.length ?? 0) - rings.length;
  return (
    <>
      <h2 className="mb-2 flex items-baseline gap-3">
        What is wrong now
        <Link className="btn-bare text-[13px] font-normal" to="/alarms">
          {alarms.data?.length ? "what to do" : "alarms"}
        </Link>
      </h2>
      {rings.slice(0, 4).map((a) => (
        <Link
          key={a.id}
          to="/alarms"
          className="flex items-center gap-2.5 py-1 hover:underline"
          data-testid="alarm-line"
        >
          <span className="w-2 self-stretch bg-dead" aria-hidden="true" />
          <span className="min-w-0 flex-1 truncate">
            {a.title}
            {a.about && `: ${a.about}`}, {amount(a.value, a.unit)}
          </span>
          <span className="text-quiet">{age(now - new Date(a.since).getTime())}</span>
        </Link>
      ))}
      {rings.length > 4 && (
        <Link className="btn-bare" to="/alarms">
          and {rings.length - 4} more
        </Link>
      )}
      {taken > 0 && (
        <p className="text-quiet">
          {taken} {taken === 1 ? "is" : "are"} in hand.
        </p>
      )}
    </>
  );
}

/** How many ring, as a link to them. */
export function AlarmCount() {
  const rings = useAlarms().data?.filter((a) => !a.taken).length ?? 0;
  return (
    <Link className={rings ? "font-bold text-dead hover:underline" : "hover:underline"} to="/alarms">
      {rings === 0 ? "no alarms" : rings === 1 ? "1 alarm rings" : `${rings} alarms ring`}
    </Link>
  );
}
