import { useState } from "react";
import { call } from "../api/client";
import { useReference } from "../api/queries";
import { viewOf } from "../steps";
import { Mark } from "../ui/marks";
import { PageHead, says, Trouble } from "../ui/parts";

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
  return (
    <>
      <PageHead title="Help" facts="what the steps, expressions and states mean" />
      {reference.error && <Trouble error={reference.error} />}
      <div className="min-h-0 flex-1 overflow-auto">
        <div className="mx-auto max-w-4xl space-y-8 px-6 py-5 leading-relaxed">
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
              plan, make a dead letter. A resend keeps what was delivered before, and the history of every try stays.
            </p>
          </section>
          <section id="queues">
            <h2 className="mb-1 text-[17px]">Queues and topics</h2>
            <p className="mb-1">
              A queue hands each message to one reader: use it to let work wait for whoever is free. It gives out the
              highest priority first (0 to 9, usually 4) and what is equal in the order in which it was put, at most so
              many at once as its flow says. What waits longer than its step allows is a dead letter, and so is what
              finds the queue full or without a reader. Messages can be looked at, moved and purged while they wait.
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
          <section id="steps">
            <h2 className="mb-2 text-[17px]">Steps</h2>
            {r?.kinds.map((k) => (
              <article key={k.name} id={`step-${k.name}`} className="mb-5 border-l-2 border-line pl-4">
                <h3 className="text-[15px] font-bold text-deep">{viewOf(k.name).verb}</h3>
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

/** An example that can be changed and run. */
function TryIt(x: {
  expression: string;
  body?: string;
  format?: string;
  tables?: Record<string, string>;
  value: string;
}) {
  const [open, setOpen] = useState(false);
  const [expression, setExpression] = useState(x.expression);
  const [body, setBody] = useState(x.body ?? "");
  const [result, setResult] = useState<{ value?: string; error?: string }>({ value: x.value });
  const run = async () => {
    try {
      setResult(
        (
          await call<{ value: string }>("/api/v1/eval", {
            body: { expression, body, format: x.format, tables: x.tables },
          })
        ).value,
      );
    } catch (e) {
      setResult({ error: says(e) });
    }
  };
  if (!open)
    return (
      <p className="data text-quiet">
        {x.expression} {x.body && `over ${x.body.replaceAll("\r", "⏎")}`}{" "}
        {Object.entries(x.tables ?? {}).map(([name, csv]) => `with ${name} ${csv.trim().replaceAll("\n", "⏎")}`)} →{" "}
        {x.value || "differs from run to run"}{" "}
        <button type="button" className="btn-bare" onClick={() => setOpen(true)}>
          try it
        </button>
      </p>
    );
  return (
    <form
      className="my-1 border border-line bg-sheet p-2"
      onSubmit={(e) => {
        e.preventDefault();
        run();
      }}
    >
      <input
        aria-label="Expression"
        className="field data"
        value={expression}
        onChange={(e) => setExpression(e.target.value)}
      />
      <textarea
        aria-label="Body"
        className="field data mt-1"
        rows={2}
        placeholder="body"
        value={body}
        onChange={(e) => setBody(x.format === "hl7" ? e.target.value.replaceAll("\n", "\r") : e.target.value)}
      />
      <div className="mt-1 flex items-center gap-3">
        <button type="submit" className="btn">
          Evaluate
        </button>
        <span className={`data break-all ${result.error ? "text-dead" : "text-done"}`} role="status">
          {result.error ?? result.value}
        </span>
      </div>
    </form>
  );
}
