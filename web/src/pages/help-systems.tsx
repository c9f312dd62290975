import { useSystems } from "../systems";
import { type Schema, settingsOf } from "../systems/schema";

/** How programs outside put and take. */
export function Outside() {
  return (
    <section id="outside">
      <h2 className="mb-1 text-[17px]">Programs that put and take over HTTP</h2>
      <p className="mb-1">
        A key, made on Connections, says what a program may: send, take, read or manage, on queues, topics and flows. It
        comes as <code className="data">Authorization: Bearer …</code> or <code className="data">X-Api-Key</code>.
      </p>
      <dl className="grid grid-cols-[330px_1fr] gap-y-0.5">
        {[
          [
            "POST /out/queues/{name}",
            "puts a message, or CloudEvents: binary, structured or as a batch. A repeat is told by Idempotency-Key, or by source and id.",
          ],
          [
            "POST /out/queues/{name}/take",
            '{"max": 10, "wait": "30s", "lease": "1m"} gives messages, each with a lease; it waits for the first.',
          ],
          [
            "POST /out/queues/{name}/leases/{lease}/done",
            "the message is gone. back in place of done gives it to somebody else. A lease that ends without a word does too; the fifth makes it a dead letter, and a resend puts it into the queue anew.",
          ],
          ["GET /out/queues/{name}/messages", "looks, and takes nothing; pause and resume are there, too."],
          ["POST /out/topics/{name}", "publishes."],
          [
            "POST /out/topics/{name}/take",
            '{"subscription": "partner", "begin": "earliest"} and the rest as with a queue; each subscription has every message, and its leases end at /out/topics/{name}/leases/….',
          ],
          [
            "GET /out/topics/{name}/events",
            "server-sent events from latest, earliest or an offset on; Last-Event-ID goes on behind the one seen last.",
          ],
          ["POST /in/…", "a webhook that asks who calls takes a key with send on flow:name as well."],
        ].map(([what, says]) => (
          <div key={what} className="contents">
            <dt className="data">{what}</dt>
            <dd>{says}</dd>
          </div>
        ))}
      </dl>
    </section>
  );
}

/** What may be said to each kind of outside system, from its schemas. */
export function Systems() {
  const systems = useSystems();
  return (
    <section id="systems">
      <h2 className="mb-1 text-[17px]">Outside systems</h2>
      {systems.data?.map((s) => (
        <div key={s.kind} className="mb-4">
          <h3 className="font-bold">
            {s.title} <span className="chip">{s.kind}</span>
          </h3>
          <p className="mb-1">{s.summary}</p>
          {s.notes.map((note) => (
            <p key={note} className="mb-1 text-quiet">
              {note}
            </p>
          ))}
          <SettingsTable what="Connection" schema={s.connection} omit={["readyferry", "kind"]} />
          <SettingsTable what="Intake" schema={s.intake} />
          <SettingsTable what="Delivery" schema={s.deliver} />
          <SettingsTable what="Question" schema={s.ask} />
          {s.outcomes.length > 0 && (
            <details className="mb-1">
              <summary className="head cursor-pointer">What its answers come to</summary>
              <table className="grid-table mt-1">
                <thead>
                  <tr>
                    <th>It says</th>
                    <th>That means</th>
                    <th>The delivery</th>
                  </tr>
                </thead>
                <tbody>
                  {s.outcomes.map((o) => (
                    <tr key={o.code + o.words}>
                      <td className="data">{o.code || "·"}</td>
                      <td>{o.words}</td>
                      <td className="whitespace-nowrap">{o.comes}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </details>
          )}
        </div>
      ))}
    </section>
  );
}

function SettingsTable({ what, schema, omit = [] }: { what: string; schema: Schema | null; omit?: string[] }) {
  const rows = settingsOf(schema).filter(([name]) => !omit.includes(name));
  if (!rows.length) return null;
  return (
    <details className="mb-1">
      <summary className="head cursor-pointer">{what}</summary>
      <dl className="mt-1 grid grid-cols-[140px_1fr] gap-y-0.5">
        {rows.map(([name, s]) => (
          <div key={name} className="contents">
            <dt className="data">{name}</dt>
            <dd>
              {[s.title, s.description].filter(Boolean).join(": ")}
              {s.enum && ` (${s.enum.join(", ")})`}
              {s.default !== undefined && typeof s.default !== "object" && `; ${String(s.default)} by default`}
            </dd>
          </div>
        ))}
      </dl>
    </details>
  );
}

/** Systems beyond a firewall. */
export function Beyond() {
  return (
    <section id="runners">
      <h2 className="mb-1 text-[17px]">Systems that only their own network reaches</h2>
      <p className="mb-2">
        A runner stands beside them: <code className="data">readyferry runner --join https://… --name depot</code>, with
        a key that may run <code className="data">runner:depot</code> (Keys) in{" "}
        <code className="data">READYFERRY_RUNNER_KEY</code> or a file. It connects outward, over one line that proxies
        let through, and needs no open port. A connection that says <code className="data">at: depot</code> is opened
        there: deliveries, questions, what comes in, the test.
      </p>
      <p className="mb-2">
        While it is away deliveries wait, without using up their tries, and go out when it comes; Connections shows
        since when, and what waits. What it receives is on its disk before the source is told so, and handed over once
        when the line is up. A delivery that went through before the line broke is not sent again. Its key ends at once
        where it is withdrawn, and it sees nothing but what its own connections need.
      </p>
      <p className="mb-2">
        A subflow step that says <code className="data">at: depot</code> has its flow run there, with its transaction,
        its tables and all that it reads: what is asked of a system beside the runner does not leave, only the answer
        does. The connections of that flow say <code className="data">at: depot</code>, too. A call waits for the end,
        five minutes if nothing else is said; what fails there is a dead letter here, and goes on there when it is sent
        again.
      </p>
      <p>
        A message that is handed over may have 30 MB. A sender that waits for the flow's answer has none while the line
        is cut. <code className="data">docs/growing.md</code> has the rest.
      </p>
    </section>
  );
}

/** Several instances that are one application. */
export function Fleet() {
  return (
    <section id="fleet">
      <h2 className="mb-1 text-[17px]">Several instances that are one</h2>
      <p className="mb-2">
        A fleet of three or five goes on when a machine and its disk are gone.{" "}
        <code className="data">readyferry fleet init</code> makes a folder for each member,{" "}
        <code className="data">serve --fleet FILE</code> starts it. One member leads: its engine works. The others have
        a copy of its journal and answer by it, so any of them can be called. What a caller was told is accepted is on
        the disks of a majority; when the one that leads is gone another one does within seconds, and callers wait or
        are told to come again.
      </p>
      <p className="mb-2">
        <a className="underline" href="/fleet">
          Fleet
        </a>{" "}
        in the menu shows the members, how far each copy is, the log that they keep, and the runners. Drain one before
        you stop it: another one leads first. A member that sees no majority takes nothing, and says why.
      </p>
      <p className="mb-2">
        <code className="data">fleet init --partitions 3</code> has messages worked on by several members side by side,
        each on those of some order values. That is so for flows that begin with a webhook or a load and whose messages
        meet no others on their way. A flow whose messages meet only each other, or that has a source of its own, is at
        home in one partition, with its groups, turns and clock. What several flows have (queues, topics, tables that
        they write) is in the first, with the design. The page says where each flow is, and why.
      </p>
      <p>
        <code className="data">docs/growing.md</code> says what it costs, how an instance becomes a fleet, and how it
        becomes one again.
      </p>
    </section>
  );
}
