import { type ReactNode, useEffect, useState } from "react";
import { call, type Schemas } from "../api/client";
import { signIn, signInByPasskey } from "../api/session";
import { Setting, says, Text } from "../ui/parts";

/** A page of its own, for those who are not in yet. */
function Gate({ title, children }: { title: string; children: ReactNode }) {
  return (
    <main className="flex min-h-full items-start justify-center overflow-auto bg-paper px-4 py-[12vh]">
      <section className="w-full max-w-[26rem] border-t-4 border-band bg-sheet p-6" aria-labelledby="gate">
        <p className="mb-4 flex items-center gap-2 font-bold text-deep">
          <svg width="24" height="16" viewBox="0 0 24 16" aria-hidden="true">
            <path d="M4 7 7 2h8v2h3v3z" fill="#c8501e" />
            <path d="M0 8h24l-3 6H4z" fill="currentColor" />
          </svg>
          Ready Ferry
        </p>
        <h1 id="gate" className="mb-4 text-[19px]">
          {title}
        </h1>
        {children}
      </section>
    </main>
  );
}

/** Where somebody comes in by name and password. */
export function SignInPage({ openId }: { openId: string }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [shown, setShown] = useState(false);
  const [bad, setBad] = useState(() => new URLSearchParams(window.location.search).get("said") ?? undefined);
  const [busy, setBusy] = useState(false);
  const enter = async (how: () => Promise<unknown>) => {
    setBusy(true);
    setBad(undefined);
    try {
      await how();
      if (window.location.pathname === "/sign-in") return window.location.assign("/flows");
      window.location.reload();
    } catch (e) {
      setBad(says(e));
      setPassword("");
      setBusy(false);
    }
  };
  return (
    <Gate title="Sign in">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void enter(() => signIn(name, password));
        }}
      >
        <Setting label="Name">
          <Text label="Name" value={name} onChange={setName} focus complete="username webauthn" />
        </Setting>
        <Setting label="Password">
          <Text
            label="Password"
            type={shown ? "text" : "password"}
            value={password}
            onChange={setPassword}
            complete="current-password"
          />
        </Setting>
        <Showing {...{ shown, setShown }} />
        {bad && (
          <p role="alert" className="mb-3 text-dead">
            {bad}
          </p>
        )}
        <button type="submit" className="btn btn-go" disabled={busy || !name || !password}>
          {busy ? "Signing in…" : "Sign in"}
        </button>
      </form>
      <p className="mt-4 flex flex-wrap gap-3">
        {"PublicKeyCredential" in window && (
          <button type="button" className="btn" disabled={busy} onClick={() => void enter(signInByPasskey)}>
            By a passkey
          </button>
        )}
        {openId && (
          <a className="btn" href="/api/v1/openid">
            By OpenID: {openId}
          </a>
        )}
      </p>
      <p className="mt-5 text-quiet">
        Who has lost the way in asks an owner for a link, or at the machine itself:{" "}
        <code className="data">readyferry people reset NAME</code>
      </p>
    </Gate>
  );
}

/** While there is nobody: the link to come in by stands where the application was started. */
export function NobodyYetPage() {
  return (
    <Gate title="Nobody can sign in yet">
      <p>
        The first owner comes in by a link that the application printed when it was started. It is good once; each start
        prints another, as long as there is nobody.
      </p>
    </Gate>
  );
}

/** Where a link leads by which somebody chooses a password. */
export function WelcomePage() {
  const link = window.location.hash.slice(1);
  const [invited, setInvited] = useState<{ name: string }>();
  const [name, setName] = useState("");
  const [title, setTitle] = useState("");
  const [password, setPassword] = useState("");
  const [again, setAgain] = useState("");
  const [bad, setBad] = useState<string>();
  useEffect(() => {
    call<{ name: string }>("/api/v1/session/link", { body: { link } }).then(
      ({ value }) => {
        setInvited(value);
        setName(value.name);
      },
      (e) => setBad(says(e)),
    );
  }, [link]);
  const come = async () => {
    setBad(undefined);
    if (password !== again) return setBad("The two are not the same");
    try {
      await call<Schemas["Who"]>("/api/v1/session/password/link", { body: { link, name, title, password } });
      window.location.assign("/flows");
    } catch (e) {
      setBad(says(e));
    }
  };
  return (
    <Gate title={invited?.name ? `Welcome, ${invited.name}` : "Welcome"}>
      {invited && (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            void come();
          }}
        >
          {invited.name === "" && (
            <>
              <p className="mb-3 text-quiet">
                You are the first, and an owner: you may do everything but see masked values, and let others in.
              </p>
              <Setting label="Name" hint="to sign in by: letters, digits, and . _ @ + -">
                <Text label="Name" value={name} onChange={setName} focus complete="username" />
              </Setting>
              <Setting label="What others call you">
                <Text label="What others call you" value={title} onChange={setTitle} complete="name" />
              </Setting>
            </>
          )}
          <Passwords {...{ password, setPassword, again, setAgain, of: { link, name, title } }} />
          <button type="submit" className="btn btn-go" disabled={!name || !password || !again}>
            Come in
          </button>
        </form>
      )}
      {bad && (
        <p role="alert" className="mt-3 text-dead">
          {bad}
        </p>
      )}
    </Gate>
  );
}

/** Lets somebody see what they type. */
function Showing({ shown, setShown }: { shown: boolean; setShown: (v: boolean) => void }) {
  return (
    <label className="mb-3 flex items-center gap-2">
      <input type="checkbox" checked={shown} onChange={(e) => setShown(e.target.checked)} />
      Show what I type
    </label>
  );
}

/** A new password, twice, and how good it is. */
export function Passwords(p: {
  password: string;
  setPassword: (v: string) => void;
  again: string;
  setAgain: (v: string) => void;
  of?: { link: string; name: string; title: string };
}) {
  const [shown, setShown] = useState(false);
  const type = shown ? "text" : "password";
  return (
    <>
      <Setting label="New password" hint="12 letters or more; several words that do not belong together are good">
        <Text label="New password" type={type} value={p.password} onChange={p.setPassword} complete="new-password" />
        <Strength password={p.password} {...p.of} />
      </Setting>
      <Setting label="Once more">
        <Text label="Once more" type={type} value={p.again} onChange={p.setAgain} complete="new-password" />
      </Setting>
      <Showing {...{ shown, setShown }} />
    </>
  );
}

/** How good a password is, reckoned where it would be checked, once somebody stops typing for a moment. */
function Strength(p: { password: string; link?: string; name?: string; title?: string }) {
  const [of, setOf] = useState<{ strength: number; wrong: string }>();
  const { password, link, name, title } = p;
  useEffect(() => {
    if (!password) return setOf(undefined);
    const stop = new AbortController();
    const timer = setTimeout(() => {
      call<{ strength: number; wrong: string }>("/api/v1/session/password/strength", {
        body: { password, link, name, title },
        signal: stop.signal,
      }).then(
        ({ value }) => setOf(value),
        () => setOf(undefined),
      );
    }, 300);
    return () => {
      clearTimeout(timer);
      stop.abort();
    };
  }, [password, link, name, title]);
  if (!of) return null;
  const words = of.wrong ? "not good enough" : of.strength < 0.75 ? "good enough" : "very good";
  return (
    <span className="mt-1 flex items-center gap-2">
      <meter className="h-2 w-40" aria-label="How good it is" min={0} max={1} low={0.5} value={of.strength} />
      <span aria-live="polite">{words}</span>
    </span>
  );
}
