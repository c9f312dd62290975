/** How messages are found and followed, and how many dead letters are repaired at once. */
export function HelpWatching() {
  return (
    <section id="watching">
      <h2 className="mb-1 text-[17px]">Watch and repair</h2>
      <h3 className="mt-2 mb-1 font-semibold">Finding</h3>
      <p className="mb-2">
        The filter of Transactions takes words and filters by name, all of which have to hold; it stands in the address,
        and can be kept as a view: <span className="chip">flow:</span> <span className="chip">state:dead-letter</span>{" "}
        <span className="chip">reference:hr20</span> (any part; upper and lower case and blanks do not matter),{" "}
        <span className="chip">from:yesterday</span> <span className="chip">to:2026-03-17</span>{" "}
        <span className="chip">target:</span> <span className="chip">way:by-home.digital</span>{" "}
        <span className="chip">step:</span> <span className="chip">tries:&gt;2</span>{" "}
        <span className="chip">took:&gt;5s</span> <span className="chip">size:&gt;10kB</span>{" "}
        <span className="chip">note:</span> <span className="chip">header:name=value</span>; a minus before one turns it
        round. Words are looked for in references, reasons, notes, and in the headers and fields that a flow marks with{" "}
        <span className="chip">search: {"{fields: [/patron/card], headers: [x-portal]}"}</span>. The index is filled
        behind the commit, and gives way while much comes in. What is found can be taken away as CSV or JSON lines.
      </p>
      <h3 className="mt-2 mb-1 font-semibold">Following</h3>
      <p className="mb-2">
        A journey is all that came of one business message: through queues, topics, parts, groups, called flows, dead
        letters and repeats, on one axis of time. Messages of one trace (W3C Trace Context) belong to one journey, and
        deliveries over HTTP carry it on. “Beside another” names the first place where two messages of a flow part, and
        the value that did it. Log, beside Transactions, tells ends, dead letters, failed tries and notes of all flows
        line by line; it can be filtered, and is held while one reads it.
      </p>
      <h3 className="mt-2 mb-1 font-semibold">Repairing many</h3>
      <p className="mb-2">
        Letters with the same reason are one cause. Whether that is a matter of the data, the flow, the target or a
        limit is judged from evidence, which stands above the letters. One change is made in all of them: a JSON Patch
        (RFC 6902), find and replace, or a map; what each would come to is counted before anything is sent, under the
        version that does best. What was delivered before is not sent again unless one insists. A repair goes at a pace,
        at a time, when its target answers again, or at most so many a night; it can be stopped, goes on behind a crash,
        and its report stays. A discard can be taken back for a day. Transactions that were delivered are sent again by
        “Send again” above a narrowed list, under their old keys or new ones, looked at in the same way.
      </p>
      <h3 className="mt-2 mb-1 font-semibold">Targets</h3>
      <p className="mb-2">
        A connection shows how its deliveries are going, and who waits for it since when and why. It can be held for
        maintenance, which uses up no try; a wait can be skipped; and what waits can be moved to the dead letters.
      </p>
      <h3 className="mt-2 mb-1 font-semibold">Alarms</h3>
      <p className="mb-2">
        Alarms says what is wrong now, since when, and what one does about it; whoever says “I have it in hand” keeps
        others from being told. A rule watches counts, rates, shares, ages, depths, lag, silence, dead letters,
        connections, sources, the ends of certificates and keys, or the disk: of one flow, queue or connection, or of
        each. While it is written it shows when it would have rung in the last week. It tells by mail, by webhook, by
        any other connection, or a flow, which gets{" "}
        <span className="chip">{'{title, alarms: [{what: "rings" | "still" | "resolved", about, value, …}]}'}</span>.
        What rings together is told together; later receivers are told when nobody has it in hand by then; in quiet
        times only what is urgent is told. A notice that is not taken is tried again for a day, and who was told stands
        on the page.
      </p>
      <h3 className="mt-2 mb-1 font-semibold">Calendars</h3>
      <p className="mb-2">
        Opening hours, holidays and nights of maintenance are iCalendar files (RFC 5545), under Alarms. A calendar can
        leave out what others cover. Rules count silence within one; a schedule or poll is due only{" "}
        <span className="chip">during: opening-hours</span>; a connection waits while{" "}
        <span className="chip">hold: {"{during: maintenance}"}</span> covers the time.
      </p>
      <h3 className="mt-2 mb-1 font-semibold">Metrics, traces, log</h3>
      <p className="mb-2">
        <a className="underline" href="/metrics">
          /metrics
        </a>{" "}
        counts in the text format of Prometheus what flows received and how it ended, what steps did, tries and their
        times by connection, sources, queues, topics, room and alarms; labels are names of flows, steps and connections
        and never come from a message. <span className="chip">--traces http://127.0.0.1:4318</span> tells an
        OpenTelemetry collector each transaction, delivery and try as a span (OTLP over HTTP), in the trace of the
        caller where it came with a <span className="chip">traceparent</span>; nothing is told without it.{" "}
        <span className="chip">--log json</span> writes a line of JSON for each thing worth knowing, with ids,{" "}
        <span className="chip">--log-level debug</span> one for each message and try. Neither traces nor the log hold a
        secret, a reference, a reason or a body.
      </p>
      <h3 className="mt-2 mb-1 font-semibold">Outage drill</h3>
      <p>
        Under “More” on a sheet, and with <span className="chip">readyferry drill FLOW --data DIR --outage 10m</span>:
        an outage, a slow target or a burst is played through in virtual time with the engine&rsquo;s own retries,
        order, breaker and limits, over what was measured of the flow, with another plan beside it.
      </p>
    </section>
  );
}
