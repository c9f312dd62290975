import { useState } from "react";
import { toast } from "sonner";
import { call, enc } from "../api/client";
import { queryClient } from "../api/queries";
import { makePasskey, usePasskeys, useSessions, useWho, type Who } from "../api/session";
import { PageHead, Setting, says, Text, Trouble } from "../ui/parts";
import { Time } from "../ui/time";
import { grantText } from "./people-words";
import { Passwords } from "./sign-in";

/** One's own page: roles, password, and where one is signed in. */
export default function MePage() {
  const who = useWho();
  if (!who) return <p className="p-6 text-quiet">Loading…</p>;
  return (
    <>
      <PageHead
        title={who.title}
        facts={who.kind === "visitor" ? "a visitor of the demo" : `signs in as ${who.name}`}
      />
      <div className="grid min-h-0 flex-1 content-start gap-x-8 gap-y-6 overflow-auto p-4 lg:grid-cols-2">
        <Roles who={who} />
        {who.kind === "person" && <Password />}
        {who.kind === "person" && <Passkeys />}
        {who.kind === "person" && <Sessions session={who.session} />}
      </div>
    </>
  );
}

function Roles({ who }: { who: Who }) {
  return (
    <section aria-labelledby="roles">
      <h2 id="roles" className="mb-2">
        What you may do
      </h2>
      <ul className="mb-2">
        {who.grants.map((g) => (
          <li key={`${g.role} ${g.area}`}>{grantText(g)}</li>
        ))}
      </ul>
      <p className="text-quiet">
        Rights: {who.rights.join(", ") || "none"}. An owner gives roles, each for an area or for everywhere.
      </p>
    </section>
  );
}

function Password() {
  const [old, setOld] = useState("");
  const [password, setPassword] = useState("");
  const [again, setAgain] = useState("");
  const [bad, setBad] = useState<string>();
  const change = async () => {
    setBad(undefined);
    if (password !== again) return setBad("The two are not the same");
    try {
      await call("/api/v1/session/password", { body: { old, new: password } });
      toast.success("The password is changed, and all other sessions have ended");
      setOld("");
      setPassword("");
      setAgain("");
      await queryClient.invalidateQueries();
    } catch (e) {
      setBad(says(e));
    }
  };
  return (
    <section aria-labelledby="password">
      <h2 id="password" className="mb-2">
        Password
      </h2>
      <form
        className="max-w-[26rem]"
        onSubmit={(e) => {
          e.preventDefault();
          void change();
        }}
      >
        <Setting label="Present password">
          <Text label="Present password" type="password" value={old} onChange={setOld} complete="current-password" />
        </Setting>
        <Passwords {...{ password, setPassword, again, setAgain }} />
        {bad && (
          <p role="alert" className="mb-3 text-dead">
            {bad}
          </p>
        )}
        <button type="submit" className="btn" disabled={!old || !password || !again}>
          Change the password
        </button>
      </form>
    </section>
  );
}

function Passkeys() {
  const keys = usePasskeys();
  const [title, setTitle] = useState("");
  const [bad, setBad] = useState<string>();
  const attempt = async (what: () => Promise<unknown>) => {
    setBad(undefined);
    try {
      await what();
      setTitle("");
      await queryClient.invalidateQueries({ queryKey: ["passkeys"] });
    } catch (e) {
      setBad(says(e));
    }
  };
  return (
    <section aria-labelledby="passkeys">
      <h2 id="passkeys" className="mb-2">
        Passkeys
      </h2>
      <p className="mb-2 text-quiet">
        A device holds a passkey for this host, and signs you in by what unlocks it; nothing can be guessed or passed
        on.
      </p>
      <ul className="mb-2">
        {keys.data?.map((k) => (
          <li key={k.id} className="flex items-center gap-3">
            <b>{k.title || "a passkey"}</b>
            <span className="text-quiet">
              made <Time at={k.createdAt} withDate />
              {k.usedAt && (
                <>
                  , used <Time at={k.usedAt} withDate />
                </>
              )}
            </span>
            <button
              type="button"
              className="btn-bare"
              onClick={() => attempt(() => call(`/api/v1/passkeys/${enc(k.id)}`, { method: "DELETE" }))}
            >
              take it away
            </button>
          </li>
        ))}
      </ul>
      <form
        className="flex max-w-[26rem] items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          void attempt(() => makePasskey(title));
        }}
      >
        <Setting inline label="Name of the device">
          <Text label="Name of the device" value={title} onChange={setTitle} />
        </Setting>
        <button type="submit" className="btn mb-2.5">
          Make a passkey
        </button>
      </form>
      {bad && (
        <p role="alert" className="text-dead">
          {bad}
        </p>
      )}
    </section>
  );
}

function Sessions({ session }: { session: string }) {
  const sessions = useSessions();
  const end = async (id: string) => {
    try {
      await call(`/api/v1/sessions/${enc(id)}`, { method: "DELETE" });
      await queryClient.invalidateQueries({ queryKey: ["sessions"] });
      if (id === session) window.location.reload();
    } catch (e) {
      toast.error(says(e));
    }
  };
  if (sessions.error) return <Trouble error={sessions.error} />;
  return (
    <section className="lg:col-span-2" aria-labelledby="sessions">
      <div className="mb-2 flex items-center gap-3">
        <h2 id="sessions">Where you are signed in</h2>
        {(sessions.data?.length ?? 0) > 1 && (
          <button type="button" className="btn-bare" onClick={() => end("others")}>
            end all others
          </button>
        )}
      </div>
      <table className="grid-table">
        <thead>
          <tr>
            <th>From</th>
            <th>Browser</th>
            <th>Since</th>
            <th>Last used</th>
            <th>Ends unless used</th>
            <th>
              <span className="sr-only">What can be done</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {sessions.data?.map((s) => (
            <tr key={s.id}>
              <td className="data">{s.from}</td>
              <td className="max-w-[24rem] break-words text-quiet">{s.agent}</td>
              <td>
                <Time at={s.createdAt} withDate />
              </td>
              <td>
                <Time at={s.seenAt} withDate />
              </td>
              <td>
                <Time at={s.until} withDate />
              </td>
              <td>
                {s.id === session && <span className="mr-2">this one</span>}
                <button type="button" className="btn-bare" onClick={() => end(s.id)}>
                  end it
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
