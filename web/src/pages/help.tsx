import { useEffect } from "react";
import { Link, useLocation } from "react-router";
import { useReference } from "../api/queries";
import { viewOf } from "../steps";
import { Mark } from "../ui/marks";
import { PageHead, Trouble } from "../ui/parts";
import { HelpKeeping } from "./help-keeping";
import { HelpMapping } from "./help-mapping";
import { HelpSafety } from "./help-safety";
import { HelpSearch } from "./help-search";
import { HelpSheet } from "./help-sheet";
import { Beyond, Fleet, Outside, Systems } from "./help-systems";
import { TryIt } from "./help-try";
import { HelpWatching } from "./help-watching";
import { beginTour } from "./tour";

const states: [string, string][] = [
  ["under way", "it is being worked on"],
  ["waiting", "for the next try of a delivery, or its turn"],
  ["delivered", "all that it had to do is done"],
  ["turned away", "a validation, a filter or a duplicate ended it, with the reason"],
  ["dead letter", "a person must decide: resend, repair or discard"],
];

/** What there is to know: from the server where it computes, so that it stays true. */
export default function HelpPage() {
  const reference = useReference();
  const r = reference.data;
  const { hash } = useLocation();
  // The browser looks for the section before it is there, and what comes from the server moves it once more.
  // biome-ignore lint/correctness/useExhaustiveDependencies: it is to be done again when that has come
  useEffect(() => {
    if (hash) document.getElementById(hash.slice(1))?.scrollIntoView();
  }, [hash, r]);
  return (
    <>
      <PageHead title="Help" facts="what the steps, expressions and states mean" />
      {reference.error && <Trouble error={reference.error} />}
      <div className="min-h-0 flex-1 overflow-auto">
        <div className="mx-auto max-w-4xl space-y-8 px-6 py-5 leading-relaxed" data-help>
          <HelpSearch />
          <p>
            <button type="button" className="btn" onClick={beginTour}>
              Ten minutes, step by step
            </button>{" "}
            <span className="text-quiet">It watches what you do, and says what comes next.</span>
          </p>
          <section id="start">
            <h2 className="mb-1 text-[17px]">From nothing to a delivered message</h2>
            <ol className="list-decimal space-y-1 pl-5">
              <li>
                On Connections, connect the system that messages go to, and test it. Let somebody call: a key for
                whoever sends.
              </li>
              <li>
                On Flows, start a flow. Its address is there at once; until it is published, what comes in is kept as
                samples.
              </li>
              <li>
                On its sheet, add steps below one another. Columns are samples: each cell says what the step did to that
                message, while you edit.
              </li>
              <li>Publish. The intake's desk shows a ready-made request to try it.</li>
              <li>Watch Transactions; decide about Dead letters.</li>
            </ol>
          </section>
          <section id="states">
            <h2 className="mb-1 text-[17px]">States of a transaction</h2>
            <dl className="grid grid-cols-[140px_1fr] gap-y-1">
              {states.map(([s, t]) => (
                <div key={s} className="contents">
                  <dt className="flex items-center gap-2">
                    <Mark state={s} /> {s}
                  </dt>
                  <dd>{t}</dd>
                </div>
              ))}
            </dl>
          </section>
          <section id="delivery">
            <h2 className="mb-1 text-[17px]">What is promised of a delivery</h2>
            <p>
              A caller gets 2xx only for what is on disk. Each try carries the same Idempotency-Key, so that the target
              can tell repeats. 2xx is delivered. No answer, 408, 425, 429 and 5xx but 501 and 505 are tried again on
              the retry plan; Retry-After moves the next try later, never earlier. Other answers, and the end of the
              plan, make a dead letter. A resend keeps what was delivered before, and the history of every try stays,
              with who decided.
            </p>
            <p className="mt-1">
              Every try ends at the time limit of its connection, whatever comes back. An answer that is larger than the
              connection's <span className="data">largest-answer</span> is refused as a whole, never cut. A delivery
              that waits for its next try gives its place among those in flight back, up to{" "}
              <span className="data">waiting</span> of a flow, so that one dead target does not hold up the others; only{" "}
              <span className="data">in-flight: 1</span> keeps everything in line.
            </p>
            <p className="mt-1">
              A message that comes again is a duplicate and gets the first one's answer. While the first is an open dead
              letter a repeat joins it: 202 with its id, or 503 where the caller waits for the end. Once it is resent
              with success the repeat has its answer; once it is discarded, the next repeat is taken in anew.
            </p>
          </section>
          <Outside />
          <Systems />
          <Beyond />
          <Fleet />
          <section id="queues">
            <h2 className="mb-1 text-[17px]">Queues and topics</h2>
            <p className="mb-1">
              A queue hands each message to one reader: use it to let work wait for whoever is free. It gives out the
              highest priority first (0 to 9, usually 4) and what is equal in the order in which it was put, at most so
              many at once as its flow says. What waits longer than its step allows is a dead letter, and so is what
              finds the queue full or without a reader. Where something else than a flow reads the queue, say{" "}
              <span className="data">readers: outside</span>, and nobody warns that no flow does. Messages can be looked
              at, moved and purged while they wait. What leaves a queue with messages without a reader asks first.
            </p>
            <p>
              A topic keeps a log, and each subscription reads all of it at its own place: use it to tell several flows
              the same thing without knowing them. Flows that name the same subscription share its messages. A new one
              begins with the oldest message kept, at the end, at a time or at an offset, and can be rewound later. A
              topic keeps messages for 7 days and up to 1 GiB unless it is set otherwise, and never drops what a
              subscription has not read unless it is told to. Putting into a topic that nobody reads is a warning, which
              the topic counts.
            </p>
          </section>
          <HelpSheet />
          <section id="many">
            <h2 className="mb-1 text-[17px]">From one to many, and back to one</h2>
            <p className="mb-1">
              A split makes parts of a message. Each part is a transaction of its own, with its own tries, dead letters
              and repairs; the whole shows how far they are and the state of the most troubled one.
            </p>
            <p className="mb-1">
              An aggregate gathers messages of one key into a group, which goes on as one message. A member waits until
              its group closes, and is then delivered: the group has taken over. The open groups are on the Queues page,
              with what each waits for and when it closes. A member whose group cannot be told, or has no room, is a
              dead letter, and nothing else stops.
            </p>
            <p className="mb-1">
              To put in order lets the messages of a key go on by their numbers, and waits for a missing one so long as
              the step says. Deliveries behind it leave in that order.
            </p>
            <p className="mb-1">
              A scatter asks along several ways at the same time and gathers the answers. What fails or comes too late
              is null under <span className="data">replies</span>, with the reason under{" "}
              <span className="data">replies.the-step.missing</span>; it is no dead letter.
            </p>
            <p>
              A rehearsal takes the samples one after the other, so that they meet in groups as live messages do; behind
              the last of them time passes until no group waits for it. On the command line{" "}
              <span className="data">rehearse</span> takes <span className="data">--message</span> several times.
            </p>
          </section>
          <section id="tables">
            <h2 className="mb-1 text-[17px]">Tables</h2>
            <p className="mb-1">
              A table holds reference data: load a CSV or JSON file, or write rows by hand. Its first column is the key
              unless it says otherwise; a key may have several columns, and a row may apply for a range from one column
              to another, both ends included by default. Numbers are compared as numbers, everything else as text, so
              dates such as 2026-03-17 sort as they should. A file whose rows have no key, clash or overlap is refused
              with the line, and nothing is changed; a load that is stopped leaves the table as it was.
            </p>
            <p className="mb-1">
              Every change makes a version, and any version can be brought back. A transaction keeps the rows that it
              found, so inspection shows what was true then. A table that is not there, or has other keys than the step
              asks for, is an error when the flow is published and a dead letter afterwards; sent again, the message
              looks anew. A resend always looks anew, also when the message is as it was.
            </p>
            <p>
              A cross-reference table pairs the keys of two systems, and a pair step writes it in the same database
              transaction as the step itself. Each key stands for one key of the other system; what conflicts is a dead
              letter, or keeps or replaces the old pair, as the step says.
            </p>
          </section>
          <section id="asking">
            <h2 className="mb-1 text-[17px]">Asking and waiting</h2>
            <p className="mb-1">
              An ask over HTTP or SQL is tried again like a delivery and is a dead letter in the end. Name statuses that
              are answers, too, under retry: <span className="data">delivered: [404]</span>. A query binds its
              parameters and may only read unless its connection allows more; one that gives too many rows, or not
              exactly one where one is asked for, fails and says so. A statement that changes rows answers with the
              header Affected-Rows, which stands at its try, too. Locks, rollbacks and lost connections are tried again;
              what the database does not take because of its values is a dead letter of class data.
            </p>
            <p className="mb-1">
              An ask by a queue puts the message there with the headers correlation-id and reply-to. The other flow
              delivers to the queue of reply-to with the same correlation-id, and the one that asked goes on. A reply
              that comes too late, or a second time, stays in that queue, where it can be looked at and purged. With{" "}
              <span className="data">answer: finished</span> the caller of a webhook is kept waiting until an answer
              step or the end; when that takes longer than <span className="data">wait</span>, it gets 202.
            </p>
            <p>
              A hold keeps a message for a time, until a time, or until a row of a table fits. A pace lets so many of a
              key go on within any span of that length. Both wait on disk, survive a restart and hold up nothing else;
              when the clock jumps forward, what is due goes on, a pace one by one.
            </p>
          </section>
          <section id="failing">
            <h2 className="mb-1 text-[17px]">When a step fails</h2>
            <p>
              Usually the message is a dead letter. With <span className="data">else</span> a step is skipped, values
              stand in for it, or other steps run in its place; what was caught is noted. Steps under{" "}
              <span className="data">on-dead-letter</span> run once for each dead letter of the flow, as a transaction
              of their own: to open a ticket, say, with the reason and the reference. A letter that is sent again and
              dies again is the same letter, and a dead letter of those steps begins nothing more, so they cannot loop.
            </p>
            <p className="mt-1">
              Behind the steps of an <span className="data">else</span> the message ends, turned away with the reason,
              for every kind of step. Write <span className="data">{"else: {steps: […], then: go on}"}</span> where it
              is to go on with the steps behind. When a called flow dies, whoever waits for it is told at once, and one
              failed question leaves one dead letter: the caller's, with the called one passed on to it.
            </p>
            <p className="mt-1">
              A resend reads rows of tables anew and asks anew what was asked before the step that died. Its preview
              shows the same; where an answer cannot be known before, it says which, and you say what it might be. It
              takes nothing for given.
            </p>
          </section>
          <section id="versions">
            <h2 className="mb-1 text-[17px]">Versions keep their rules</h2>
            <p className="mb-1">
              A version keeps the rules that it was published under: in inspection, in open work, and in resends under
              its own version. Drafts and new versions follow the present rules, number 2, and a finding says where that
              makes a difference. Under the rules before, number 1:
            </p>
            <ul className="list-disc space-y-0.5 pl-5">
              <li>behind the steps of an else the message went on, as it does now with then: go on</li>
              <li>
                optional access through null or through a value without members, such as{" "}
                <span className="data">body.?a.b</span> where a is a number, was absent; it is an error now. Write{" "}
                <span className="data">optional.ofNonZeroValue(body.a).?b</span> where a may be null
              </li>
              <li>a condition of ? : that is neither true nor false counted as false; it is an error now</li>
              <li>
                inside a split message.id was that of the whole; it is the part's now, and message.parent is the whole's
              </li>
              <li>a whole whose parts were all turned away was delivered; it is turned away now and says so</li>
            </ul>
          </section>
          <section id="limits">
            <h2 className="mb-1 text-[17px]">What a message may use</h2>
            <p>
              An expression may take as many steps and as much memory as is fair to the others (64 MiB for one
              evaluation, 256 MiB for all steps of a walk), and a script 64 MiB and its time limit, in a process of its
              own. What passes a limit is a dead letter that says so. Bodies that come at the same time share the memory
              for reading them; who finds no room within 5 seconds gets 429 with Retry-After. A body must come in time,
              as it is or as gzip, which may unfold to what the intake takes (413); other encodings are 415. If the
              process ends while it computes, what it computed is walked again, one at a time; only what it ends over
              alone becomes a dead letter, with that reason.
            </p>
          </section>
          <section id="ways-in">
            <h2 className="mb-1 text-[17px]">Ways in besides webhooks and queues</h2>
            <p className="mb-1">
              A schedule is due by a cron expression in a time zone, or every so often. Daylight saving follows the
              clock on the wall: a time that is skipped in spring is not due that day, and a time that comes twice in
              autumn is due twice; the zone UTC knows neither. Times that passed while the application was down are one
              message, one each, or none, as the flow says. When the clock jumps back, none comes a second time.
            </p>
            <p className="mb-1">
              A poll over HTTP asks with the mark of the last time and takes each item of the answer; items and mark are
              kept together. A poll of a table reads new rows by an increasing key, or new and changed rows by a change
              time, and says created, updated or deleted. Rows that are committed late are not missed:{" "}
              <span className="data">late</span>, 5 minutes usually, is how far back each poll looks for keys and times
              that were given out before the mark but came to be seen only afterwards; one that is as it was is passed
              over. A poll, schedule, load or receiver that fails shows on Flows, with since when and why, under “needs
              a person” and in /metrics, and tries again when it is due; its mark stays. Setting the clock of the
              machine neither stalls nor rushes what waits.
            </p>
            <p>
              A bulk load counts the records of a CSV file, a file of JSON lines or a query, and what the filter lets
              pass; then it makes one message of each. It can be paused, and goes on with the next record, also after a
              crash: none is missing and none comes twice. A line that is no JSON, and a last line that was cut off, are
              dead letters; a CSV row with too many fields stops the load there. A load may begin by itself at a time;
              that of a query also again and again, by a cron expression, each time behind the row where it stood.
            </p>
          </section>
          <section id="contracts">
            <h2 className="mb-1 text-[17px]">Contracts of partners, and SOAP</h2>
            <p className="mb-1">
              A flow that starts from a WSDL takes envelopes of SOAP 1.1 or 1.2, checks what is in them, and answers
              with one; who is refused gets a fault (<span className="data">faults</span> of the webhook). Each sender
              writes namespaces with prefixes of its own; <span className="data">prefixes</span> of the intake gives
              them those that the flow uses, an empty one for none, so that{" "}
              <span className="data">body["soap:Envelope"]["soap:Body"].Order</span> is the same element from everybody.
              XSD, OpenAPI, AsyncAPI and JSON Schema start flows as well.
            </p>
            <p>
              A connection that is made from a WSDL, OpenAPI or AsyncAPI document has the partner's operations: a
              delivery chooses one, which fills in method, path, headers or topic, and shows what the partner takes.
            </p>
          </section>
          <section id="databases">
            <h2 className="mb-1 text-[17px]">Databases</h2>
            <p>
              A delivery inserts, upserts, updates or deletes a row by its columns, or makes a statement; values are
              bound. How many rows it concerns is looked at before it is committed: where{" "}
              <span className="data">expect</span> says one or some, and it is another number, nothing is changed and it
              is a dead letter. An insert that is tried again may be there twice unless a unique index keeps it out:
              name a column for the id of the delivery, or upsert. The form offers the columns of the table; a question
              is written from chosen tables and columns, joined over foreign keys.
            </p>
          </section>
          <section id="steps">
            <h2 className="mb-2 text-[17px]">Steps</h2>
            {r?.kinds.map((k) => (
              <article key={k.name} id={`step-${k.name}`} className="mb-5 border-l-2 border-line pl-4">
                <h3 className="text-[15px] font-bold text-deep">
                  <Link className="hover:underline" to={`/help/step/${k.name}`}>
                    {viewOf(k.name).verb}
                  </Link>
                </h3>
                <p>
                  {k.summary} {k.reason}
                </p>
                <pre className="data mt-1 bg-sheet p-2 whitespace-pre-wrap">{k.example}</pre>
                <dl className="mt-1 grid grid-cols-[110px_1fr] gap-x-3">
                  {Object.entries(k.settings).map(([name, s]) => (
                    <div key={name} className="contents">
                      <dt className="data">
                        {name}
                        {k.required.includes(name) && <span title="required">*</span>}
                      </dt>
                      <dd>
                        {(s as { description?: string }).description ??
                          ((s as { enum?: string[] }).enum ?? []).join(", ")}
                      </dd>
                    </div>
                  ))}
                </dl>
              </article>
            ))}
          </section>
          <section id="expressions">
            <h2 className="mb-1 text-[17px]">Expressions</h2>
            <p className="mb-2">
              Expressions are CEL, the Common Expression Language, with its extensions for strings, math, lists, sets,
              encoders, optional values, loops over two variables and network addresses. In text,{" "}
              <span className="chip">{"${…}"}</span> holds one, escaped for where it stands. A missing member is an
              error that names what is near; write <span className="chip">body.?note.orValue("none")</span> or{" "}
              <span className="chip">has(body.note)</span> when it may be missing. Numbers that are only passed on keep
              their digits.
            </p>
            <dl className="grid grid-cols-[110px_1fr] gap-x-3 gap-y-0.5">
              {r?.names.map((n) => (
                <div key={n.name} className="contents">
                  <dt className="data">{n.name}</dt>
                  <dd>{n.text}</dd>
                </div>
              ))}
            </dl>
            <h3 className="mt-4 mb-1 text-[15px] font-bold">Own functions</h3>
            {r?.functions.map((f) => (
              <article key={f.name} className="mb-2">
                <b className="data !font-bold">{f.signature}</b>
                <p>{f.text}</p>
                {f.examples.map((x) => (
                  <TryIt key={x.expression + x.body} {...x} />
                ))}
              </article>
            ))}
          </section>
          <section id="formats">
            <h2 className="mb-1 text-[17px]">Formats</h2>
            <p className="mb-2">
              A message is read into a tree, whatever its format: this is what <span className="chip">body</span> holds.
              What no step changes leaves byte for byte as it came in.
            </p>
            <dl className="grid grid-cols-[110px_1fr] gap-x-3 gap-y-0.5">
              {r?.formats.map((f) => (
                <div key={f.name} className="contents">
                  <dt className="data">{f.name}</dt>
                  <dd>
                    {f.text} <span className="data text-quiet">{f.contentType}</span>
                  </dd>
                </div>
              ))}
            </dl>
          </section>
          <HelpMapping />
          <HelpWatching />
          <HelpKeeping />
          <HelpSafety />
          <section id="more">
            <h2 className="mb-1 text-[17px]">For scripts</h2>
            <p>
              <a className="underline" href="/api/openapi.json">
                The HTTP interface
              </a>
              ,{" "}
              <a className="underline" href="/api/v1/flow-schema">
                the JSON Schema of flow documents
              </a>
              ,{" "}
              <a className="underline" href="/metrics">
                metrics
              </a>
              . The command line: <span className="chip">readyferry --help</span>.
            </p>
          </section>
        </div>
      </div>
    </>
  );
}
