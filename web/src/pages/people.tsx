import { useState } from "react";
import { toast } from "sonner";
import { call, type Schemas } from "../api/client";
import { queryClient } from "../api/queries";
import { person, usePeople, useWho } from "../api/session";
import { Dialog, Empty, PageHead, Setting, says, Text, Trouble } from "../ui/parts";
import { Time } from "../ui/time";
import { type Grant, grantText, roles } from "./people-words";

type Person = Schemas["Person"];

/** Who may sign in, and what each may do. */
export default function PeoplePage() {
  const people = usePeople();
  const who = useWho();
  const [open, setOpen] = useState<Person | "new" | null>(null);
  const [link, setLink] = useState<{ name: string; link: string } | null>(null);
  const change = async (path: string, method: string, done: string) => {
    try {
      await call(path, { method });
      await queryClient.invalidateQueries({ queryKey: ["people"] });
      toast.success(done);
    } catch (e) {
      toast.error(says(e));
    }
  };
  const invite = async (name: string) => {
    try {
      const { value } = await call<{ link: string }>(`${person(name)}/link`, { method: "POST" });
      setLink({ name, link: value.link });
    } catch (e) {
      toast.error(says(e));
    }
  };
  return (
    <>
      <PageHead title="People" facts="who may sign in, and what each may do">
        <button type="button" className="btn btn-go" disabled={who?.kind === "visitor"} onClick={() => setOpen("new")}>
          Add somebody
        </button>
      </PageHead>
      {people.error && <Trouble error={people.error} />}
      {people.data?.length === 0 && (
        <Empty title="Nobody signs in here">
          <p>
            Whoever is at this machine is let in. Where the application is started with <code>serve</code>, or
            <code>demo --with-sign-in</code>, people sign in, and stand here with their roles.
          </p>
        </Empty>
      )}
      {(people.data?.length ?? 0) > 0 && (
        <div className="min-h-0 flex-1 overflow-auto p-4">
          <table className="grid-table">
            <thead>
              <tr>
                <th>Who</th>
                <th>Roles</th>
                <th>Signs in by</th>
                <th>Signed in</th>
                <th>Last seen</th>
                <th>
                  <span className="sr-only">What can be done</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {people.data?.map((p) => (
                <tr key={p.name}>
                  <td>
                    <b>{p.title || p.name}</b> <span className="data text-quiet">{p.name}</span>
                    {p.ended && <div className="text-dead">signs in no more</div>}
                    {p.lockedTo && (
                      <div className="text-wait">
                        locked until <Time at={p.lockedTo} />
                      </div>
                    )}
                  </td>
                  <td>
                    {p.grants.map((g) => (
                      <div key={`${g.role} ${g.area}`}>{grantText(g)}</div>
                    ))}
                  </td>
                  <td>
                    {[p.password && "password", p.passkeys > 0 && `${p.passkeys} passkeys`, p.openId && "OpenID"]
                      .filter(Boolean)
                      .join(", ") || <span className="text-quiet">nothing yet: make a link</span>}
                  </td>
                  <td className="num">{p.sessions || ""}</td>
                  <td>{p.seenAt ? <Time at={p.seenAt} withDate /> : <span className="text-quiet">never</span>}</td>
                  <td>
                    <span className="flex gap-4 whitespace-nowrap">
                      <button type="button" className="btn-bare" onClick={() => setOpen(p)}>
                        change
                      </button>
                      <button type="button" className="btn-bare" onClick={() => invite(p.name)}>
                        make a link
                      </button>
                      {p.lockedTo && (
                        <button
                          type="button"
                          className="btn-bare"
                          onClick={() => change(`${person(p.name)}/unlock`, "POST", `${p.name} may try again`)}
                        >
                          unlock
                        </button>
                      )}
                      {p.sessions > 0 && (
                        <button
                          type="button"
                          className="btn-bare"
                          onClick={() => change(`${person(p.name)}/sessions`, "DELETE", `${p.name} is signed out`)}
                        >
                          sign out
                        </button>
                      )}
                    </span>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {open && <Change one={open === "new" ? null : open} onClose={() => setOpen(null)} onNew={invite} />}
      <Dialog open={link !== null} onClose={() => setLink(null)} title={`A link for ${link?.name}`}>
        <p className="mb-2">
          Whoever has it chooses a password for {link?.name}, once, within seven days. It is shown now and never again;
          earlier links are no good any more.
        </p>
        <p className="data break-all border border-line bg-sheet p-2" data-testid="link">
          {link?.link}
        </p>
      </Dialog>
    </>
  );
}

function Change({ one, onClose, onNew }: { one: Person | null; onClose: () => void; onNew: (name: string) => void }) {
  const [name, setName] = useState(one?.name ?? "");
  const [title, setTitle] = useState(one?.title ?? "");
  const [grants, setGrants] = useState<Grant[]>(one?.grants ?? [{ role: "reader", area: "*" }]);
  const [ended, setEnded] = useState(one?.ended ?? false);
  const [bad, setBad] = useState<string>();
  const save = async () => {
    setBad(undefined);
    try {
      await call(person(name.trim().toLowerCase()), { method: "PUT", body: { title, grants, ended } });
      await queryClient.invalidateQueries({ queryKey: ["people"] });
      await queryClient.invalidateQueries({ queryKey: ["session"] });
      onClose();
      if (!one) onNew(name.trim().toLowerCase());
    } catch (e) {
      setBad(says(e));
    }
  };
  const set = (i: number, g: Partial<Grant>) => setGrants(grants.map((x, n) => (n === i ? { ...x, ...g } : x)));
  return (
    <Dialog open wide onClose={onClose} title={one ? `Change ${one.title || one.name}` : "Add somebody"}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void save();
        }}
      >
        <div className="flex gap-3">
          {!one && (
            <Setting inline label="Name" hint="to sign in by">
              <Text label="Name" value={name} onChange={setName} focus />
            </Setting>
          )}
          <Setting inline label="What others call them">
            <Text label="What others call them" value={title} onChange={setTitle} />
          </Setting>
        </div>
        <fieldset className="mb-3">
          <legend className="mb-1 font-bold">Roles</legend>
          {grants.map((g, i) => (
            <div key={i} className="mb-1.5 flex items-center gap-2">
              <select
                aria-label={`Role ${i + 1}`}
                className="field w-36"
                value={g.role}
                onChange={(e) => set(i, { role: e.target.value as Grant["role"] })}
              >
                {roles.map(([role]) => (
                  <option key={role}>{role}</option>
                ))}
              </select>
              <span>in</span>
              <div className="w-48">
                <Text
                  label={`Area ${i + 1}`}
                  mono
                  value={g.area}
                  onChange={(area) => set(i, { area })}
                  placeholder="* for everywhere"
                />
              </div>
              <span className="flex-1 text-quiet">{roles.find(([role]) => role === g.role)?.[1]}</span>
              <button type="button" className="btn-bare" onClick={() => setGrants(grants.filter((_, n) => n !== i))}>
                take it away
              </button>
            </div>
          ))}
          <button
            type="button"
            className="btn-bare"
            onClick={() => setGrants([...grants, { role: "reader", area: "*" }])}
          >
            one more role
          </button>
        </fieldset>
        {one && (
          <label className="mb-3 flex items-center gap-2">
            <input type="checkbox" checked={ended} onChange={(e) => setEnded(e.target.checked)} />
            signs in no more: is signed out everywhere, and what they did stays under their name
          </label>
        )}
        {bad && (
          <p role="alert" className="mb-3 text-dead">
            {bad}
          </p>
        )}
        <button type="submit" className="btn btn-go" disabled={!name.trim()}>
          {one ? "Save" : "Add them, and make a link"}
        </button>
      </form>
    </Dialog>
  );
}
