import { Link } from "react-router";
import { roles } from "./people-words";

/** Who may do what, and how it is held. */
export function HelpSafety() {
  return (
    <section id="safety">
      <h2 className="mb-1 text-[17px]">People and safety</h2>
      <p className="mb-2">
        People sign in by a password, a passkey or an OpenID issuer; an owner lets them in under{" "}
        <Link className="underline" to="/people">
          People
        </Link>{" "}
        by a link that works once. Who signs in is told of a change of password or passkeys since the time before. Each
        has roles, in an area or everywhere (<span className="chip">*</span>):
      </p>
      <dl className="mb-2 grid grid-cols-[110px_1fr] gap-x-3 gap-y-0.5">
        {roles.map(([role, words]) => (
          <div key={role} className="contents">
            <dt className="font-semibold">{role}</dt>
            <dd>{words}</dd>
          </div>
        ))}
      </dl>
      <p className="mb-2">
        An area is a label of a flow, connection or table (<span className="chip">area: circulation</span>); a queue or
        topic is in that of the flows that read it. Whoever has roles in an area alone sees and does only what is in it.
      </p>
      <p className="mb-2">
        Programs have{" "}
        <Link className="underline" to="/keys">
          keys
        </Link>
        , sent as <span className="chip">Authorization: Bearer …</span> or <span className="chip">X-Api-Key</span>: send
        and take for webhooks, queues and topics, read and manage for the API. A key is shown once. At the machine,{" "}
        <span className="chip">readyferry keys make deploy --may read,manage --on area:circulation</span> makes one.
      </p>
      <p className="mb-2">
        <span className="chip">mask: [/patron/name, /lines/*/card]</span> of a flow hides the values of these fields
        from whoever lacks the right unmask, wherever they stand; a repair leaves them as they are, and samples that are
        kept have made-up ones of like shape. Under Settings an owner erases a value of such a field from all that is
        kept of the messages that have it, and of what came of them.
      </p>
      <p className="mb-2">
        The{" "}
        <Link className="underline" to="/audit">
          audit
        </Link>{" "}
        says who did what, when and from where; each line hangs on the one before, so that one that was changed or taken
        out shows (<span className="chip">readyferry audit verify</span>).{" "}
        <span className="chip">readyferry doctor</span> says what is not as safe as it should be.
      </p>
      <p className="mb-2">
        What differs between places, addresses and limits, stands in files that the application is started with (
        <span className="chip">--config</span>): expressions name <span className="chip">config.shelf.address</span>,
        connections <span className="chip">{"${config.shelf.address}"}</span>, and{" "}
        <span className="chip">secret-from</span> of a connection names a secret of such a file. A version keeps the
        values that it was published with; when they change, another follows it at the next start.
      </p>
      <p className="mb-2">
        In areas that an owner names under Settings, publishing needs two persons: one asks, another publishes the very
        same draft. <span className="chip">serve --flows FOLDER</span> keeps flows in step with a folder, as{" "}
        <span className="chip">readyferry export</span> writes it; they are changed there alone then.
      </p>
      <p>
        Saving a connection permits its own host, as the kind of address that it has then; a name that leads into the
        house later is not followed.{" "}
        <Link className="underline" to="/settings">
          Settings
        </Link>{" "}
        has a list for what else may be reached. A secret stays with the address, sign-in and header that it was given
        for.
      </p>
    </section>
  );
}
