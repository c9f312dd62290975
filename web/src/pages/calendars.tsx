import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, enc, type Schemas } from "../api/client";
import { useCalendars } from "../api/queries";
import { Dialog, Empty, Setting, says, Text, Trouble } from "../ui/parts";
import { useRested } from "../ui/settled";
import { ownZone, span, Time, useNow } from "../ui/time";
import { drop, keep } from "./keep";

type Calendar = Schemas["Calendar"];
const day = 86_400_000;

/** Four weeks as lines of seven days each; what is covered is filled. */
export function Covered({ spans, from }: { spans: Schemas["CalendarSpan"][]; from: number }) {
  const start = new Date(from);
  start.setHours(0, 0, 0, 0);
  const width = 560;
  return (
    <svg width={width} height={4 * 16 + 14} role="img" aria-label="What it covers in the next four weeks">
      {[0, 1, 2, 3, 4, 5, 6].map((d) => (
        <text key={d} x={((d + 0.5) * width) / 7} y="10" textAnchor="middle" fontSize="11" fill="var(--color-quiet)">
          {new Date(start.getTime() + (d + 0.5) * day).toLocaleDateString("en-GB", { weekday: "short" })}
        </text>
      ))}
      {[0, 1, 2, 3].map((week) => (
        <g key={week} transform={`translate(0 ${week * 16 + 14})`}>
          <rect width={width} height="11" fill="var(--color-line)" opacity="0.35" />
          {[1, 2, 3, 4, 5, 6].map((d) => (
            <rect key={d} x={(d * width) / 7} width="1" height="11" fill="var(--color-line)" />
          ))}
          {spans.map((s) => {
            const zero = start.getTime() + week * 7 * day;
            const a = Math.max(0, (Date.parse(s.from) - zero) / (7 * day));
            const b = Math.min(1, (Date.parse(s.to) - zero) / (7 * day));
            return (
              b > a && (
                <rect key={s.from} x={a * width} width={(b - a) * width} height="11" fill="var(--color-deep)">
                  <title>{`${new Date(s.from).toLocaleString()} to ${new Date(s.to).toLocaleString()}`}</title>
                </rect>
              )
            );
          })}
        </g>
      ))}
    </svg>
  );
}

/** The calendars: opening hours, holidays, nights of maintenance. */
export function Calendars() {
  const calendars = useCalendars();
  const now = useNow(30_000);
  const [open, setOpen] = useState<Calendar | "new" | null>(null);
  if (calendars.error) return <Trouble error={calendars.error} />;
  return (
    <div className="p-4">
      <p className="mb-3 max-w-[80ch] text-quiet">
        iCalendar files, as every calendar application writes them. Rules ring, schedules are due and connections are
        held only within their times, where they name one.
      </p>
      <button type="button" className="btn mb-3" onClick={() => setOpen("new")}>
        Add a calendar
      </button>
      {calendars.data?.length === 0 && <Empty title="No calendars yet" />}
      {calendars.data?.map((c) => (
        <section key={c.name} className="mb-4 border-t border-line pt-3" aria-label={c.title || c.name}>
          <h2 className="flex items-baseline gap-3">
            <button type="button" className="hover:underline" onClick={() => setOpen(c)}>
              {c.title || c.name}
            </button>
            <span className="data text-quiet">{c.name}</span>
            <span className="text-[13px] font-normal">
              {c.covers ? "covers this moment" : "does not cover this moment"}
              {c.next && `, for ${span(Date.parse(c.next) - now)} more`}
            </span>
          </h2>
          <div className="my-2">
            <Covered spans={c.spans} from={now} />
          </div>
          <p className="text-quiet">
            {c.zone || "UTC"}
            {c.except.length > 0 && ` · without ${c.except.join(", ")}`}
            {c.uses.length > 0 ? ` · followed by ${c.uses.join(", ")}` : " · nothing follows it"}
          </p>
        </section>
      ))}
      {open && <Edit was={open === "new" ? null : open} onClose={() => setOpen(null)} />}
    </div>
  );
}

const example = (zone: string) => `BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//Ready Ferry//EN
BEGIN:VEVENT
UID:weekdays
DTSTAMP:20260101T000000Z
DTSTART;TZID=${zone}:20260105T090000
DTEND;TZID=${zone}:20260105T173000
RRULE:FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR
SUMMARY:open
END:VEVENT
END:VCALENDAR
`;

function Edit({ was, onClose }: { was: Calendar | null; onClose: () => void }) {
  const [name, setName] = useState(was?.name ?? "");
  const [title, setTitle] = useState(was?.title ?? "");
  const [zone, setZone] = useState(was?.zone ?? ownZone());
  const [except, setExcept] = useState((was?.except ?? []).join(" "));
  const [text, setText] = useState(was?.text ?? example(ownZone()));
  const body = { title, zone, except: except.split(/[\s,]+/).filter(Boolean), text };
  const settled = useRested(JSON.stringify(body));
  const preview = useQuery({
    queryKey: ["calendar-preview", settled],
    retry: false,
    queryFn: () =>
      call<Calendar>("/api/v1/calendar-previews", { method: "POST", body: JSON.parse(settled) }).then((r) => r.value),
  });
  const path = `/api/v1/calendars/${enc(name)}`;
  return (
    <Dialog open onClose={onClose} title={was ? `The calendar ${was.title || was.name}` : "A calendar"} wide>
      <div className="grid grid-cols-2 gap-x-4">
        <Setting label="Name" hint="what rules and flows call it: small letters, digits, hyphens">
          {was ? <b className="data">{name}</b> : <Text label="Name" value={name} onChange={setName} mono />}
        </Setting>
        <Setting label="Title">
          <Text label="Title" value={title} onChange={setTitle} />
        </Setting>
        <Setting label="Time zone" hint="of times that have none of their own">
          <Text label="Time zone" value={zone} onChange={setZone} />
        </Setting>
        <Setting label="Without" hint="names of calendars whose times are left out, such as holidays">
          <Text label="Without" value={except} onChange={setExcept} mono />
        </Setting>
      </div>
      <Setting label="Calendar file">
        <span className="mb-1 block">
          <input
            type="file"
            aria-label="Read a file"
            accept=".ics,text/calendar"
            onChange={(e) => void e.target.files?.[0]?.text().then(setText)}
          />
        </span>
        <textarea
          aria-label="Calendar file"
          className="field data h-44"
          value={text}
          spellCheck={false}
          onChange={(e) => setText(e.target.value)}
        />
      </Setting>
      {preview.error ? (
        <p role="alert" className="mb-2 text-dead">
          {says(preview.error)}
        </p>
      ) : (
        preview.data && (
          <div className="mb-3" data-testid="calendar-preview">
            <p className="mb-1 text-quiet">The next four weeks:</p>
            <Covered spans={preview.data.spans} from={Date.now()} />
            <p className="text-quiet">
              {preview.data.spans.length === 0 ? (
                "It covers no time of them."
              ) : (
                <>
                  next from <Time at={preview.data.spans[0]?.from ?? ""} withDate /> to{" "}
                  <Time at={preview.data.spans[0]?.to ?? ""} withDate />
                </>
              )}
            </p>
          </div>
        )
      )}
      <div className="flex gap-2">
        <button
          type="button"
          className="btn btn-go"
          disabled={!name || !!preview.error}
          onClick={() => void keep(path, body, was?.revision, onClose)}
        >
          Save
        </button>
        {was && (
          <button type="button" className="btn" onClick={() => void drop(path, onClose)}>
            Remove
          </button>
        )}
      </div>
    </Dialog>
  );
}
