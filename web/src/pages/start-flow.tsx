import { useState } from "react";
import { useNavigate } from "react-router";
import { call, enc } from "../api/client";
import { linesBetween } from "../model/described";
import type { Step } from "../model/model";
import { type Pattern, patterns } from "../model/patterns";
import { type Contract, FromContract } from "../steps/from-contract";
import { guess } from "../steps/mapping/shape";
import { Dialog, Select, Setting, Text, Trouble } from "../ui/parts";

const plainName = (title: string) =>
  title
    .toLowerCase()
    .normalize("NFKD")
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-+|-+$/g, "");

const types: Record<string, string> = {
  json: "application/json",
  xml: "application/xml",
  form: "application/x-www-form-urlencoded",
};

/** A stand-in that answers, and the connection to it; one that is there already stays as it is. */
async function standIn(name: string, answers: unknown) {
  const fresh = async (path: string, body: unknown) => {
    const there = await call(path).then(
      () => true,
      () => false,
    );
    if (!there) await call(path, { method: "PUT", body });
  };
  await fresh(`/api/v1/stand-ins/${enc(name)}`, {
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify(answers),
  });
  await fresh(`/api/v1/connections/${enc(name)}`, {
    readyferry: "connection/1",
    name,
    kind: "http",
    address: `stand-in://${name}`,
  });
}

const contentTypes: Record<string, string> = {
  ...types,
  csv: "text/csv",
  hl7: "application/hl7-v2",
  text: "text/plain",
};

/** Starts a flow: its title, how messages come in, and what a partner's contract says of them. */
export function StartFlow({ open, onClose }: { open: boolean; onClose: () => void }) {
  const go = useNavigate();
  const [title, setTitle] = useState("");
  const [kind, setKind] = useState("webhook");
  const [where, setWhere] = useState("");
  const [contract, setContract] = useState<Contract | null>(null);
  const [error, setError] = useState<unknown>();
  const [pattern, setPattern] = useState("");
  const [comes, setComes] = useState("");
  const [wanted, setWanted] = useState("");
  const worked = patterns.find((p) => p.name === pattern);
  const name = plainName(title);
  const whereLabel = {
    webhook: "Path below /in",
    queue: "Queue",
    topic: "Topic",
    schedule: "Cron: minute hour day month weekday",
    poll: "HTTP connection",
    table: "SQL connection",
  }[kind];
  const save = async () => {
    setError(undefined);
    if (worked)
      return begin(
        worked.steps,
        { kind: "webhook", path: `/${name}`, format: "json", ...worked.intake },
        worked.samples,
        worked.asks,
      );
    if (comes.trim()) return described();
    const made = contract?.made;
    const format = made?.format ?? "json";
    const begins: Record<string, object> = {
      webhook: { kind, path: where || `/${name}`, format },
      schedule: { kind, cron: where || "30 8 * * 1-5" },
      poll: { kind, of: where || "connection", path: "/changes?since=${mark}", each: "body.items", every: "1m" },
      table: { kind, of: where || "database", table: "records", key: "id", every: "1m" },
      load: { kind, format: "json" },
      subflow: { kind, format },
    };
    const soap = kind === "webhook" ? made?.soap : undefined;
    const intake = {
      ...(begins[kind] ?? { kind, [kind]: where || name, format }),
      ...(made?.prefixes && kind !== "load" ? { prefixes: made.prefixes } : {}),
      ...(soap ? { answer: "finished", faults: `soap-${soap.version}` } : {}),
    };
    const steps: object[] = made ? [{ id: "valid", kind: "validate", schema: made.schema, else: { answer: 422 } }] : [];
    if (soap?.answer)
      steps.push({
        id: "reply",
        kind: "answer",
        status: 200,
        headers: { "content-type": soap.contentType.replace(/; action=.*/, "") },
        text: soap.answer.replaceAll("${", "$${"),
      });
    try {
      await call(`/api/v1/flows/${enc(name)}`, {
        method: "PUT",
        body: { readyferry: "flow/1", name, title, intake, steps },
        headers: { "If-None-Match": "*" },
      });
      if (made)
        await call(`/api/v1/flows/${enc(name)}/samples/${enc("made up")}`, {
          method: "PUT",
          body: {
            body: made.sample,
            headers: made.soap
              ? {
                  "content-type": made.soap.contentType,
                  ...(made.soap.version === "1.1" ? { soapaction: `"${made.soap.action}"` } : {}),
                }
              : { "content-type": types[format] ?? "application/json" },
          },
        });
      onClose();
      go(`/flows/${name}`);
    } catch (e) {
      setError(e);
    }
  };
  /** Makes the flow with samples, and opens its sheet. */
  const begin = async (steps: Step[], intake: object, samples: Pattern["samples"], asks: Pattern["asks"] = {}) => {
    try {
      for (const [system, answers] of Object.entries(asks)) await standIn(system, answers);
      await call(`/api/v1/flows/${enc(name)}`, {
        method: "PUT",
        body: { readyferry: "flow/1", name, title, intake, steps },
        headers: { "If-None-Match": "*" },
      });
      for (const s of samples)
        await call(`/api/v1/flows/${enc(name)}/samples/${enc(s.name)}`, {
          method: "PUT",
          body: { ...s, headers: { "content-type": contentTypes[guess(s.body)] ?? "application/json" } },
        });
      onClose();
      go(`/flows/${name}`);
    } catch (e) {
      setError(e);
    }
  };
  /** Of a message that comes, and of one that is wanted where somebody has said so. */
  const described = async () => {
    const format = guess(comes);
    let steps: Step[] = [];
    try {
      if (wanted.trim() && format === "json")
        steps = [
          {
            id: "target",
            kind: "map",
            as: "json",
            target: { example: JSON.parse(wanted) },
            fields: linesBetween(comes, wanted),
          } as Step,
        ];
    } catch (e) {
      setError(new Error(`What the target wants cannot be read: ${e instanceof Error ? e.message : e}`));
      return;
    }
    await begin(steps, { kind: "webhook", path: where || `/${name}`, format }, [{ name: "as it comes", body: comes }]);
  };
  return (
    <Dialog open={open} onClose={onClose} title="Start a flow" wide>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          save();
        }}
      >
        <Setting label="Title" hint={name ? `its name is ${name}` : "a few words for people"}>
          <Text label="Title" value={title} onChange={setTitle} placeholder="Room bookings" />
        </Setting>
        <Setting label="Begin with">
          <div className="grid grid-cols-2 gap-1" role="radiogroup" aria-label="Begin with">
            {[
              { name: "", title: "An empty flow", why: "say how messages come in; the rest is added on the sheet" },
              ...patterns,
            ].map((p) => (
              <button
                key={p.name}
                type="button"
                role="radio"
                aria-checked={p.name === pattern}
                className={`border-l-[3px] bg-sheet px-2 py-1 text-left ${p.name === pattern ? "border-buoy bg-mark" : "border-line"}`}
                onClick={() => {
                  setPattern(p.name);
                  if (p.name && (!title || patterns.some((o) => o.title === title))) setTitle(p.title);
                }}
              >
                <b>{p.title}</b>
                <span className="block text-[12.5px] text-quiet">{p.why}</span>
              </button>
            ))}
          </div>
        </Setting>
        {!worked && (
          <>
            <Setting label="Messages come in by">
              <Select
                label="Messages come in by"
                value={kind}
                onChange={setKind}
                options={[
                  ["webhook", "a webhook: others call an address here"],
                  ["queue", "a queue inside the application: each message to one reader"],
                  ["topic", "a topic inside the application: each message to every subscription"],
                  ["schedule", "a schedule: at times, or every so often"],
                  ["poll", "polling a system over HTTP for what is new"],
                  ["table", "polling a table of a database for new and changed rows"],
                  ["load", "bulk loads: a file or a query, one message for each record"],
                  ["subflow", "other flows, which hand messages over"],
                ]}
              />
            </Setting>
            {whereLabel && (
              <Setting label={whereLabel}>
                <Text
                  label={whereLabel}
                  mono
                  value={where}
                  onChange={setWhere}
                  placeholder={
                    {
                      webhook: `/${name || "room-bookings"}`,
                      schedule: "30 8 * * 1-5",
                      poll: "connection",
                      table: "database",
                    }[kind] ??
                    (name || "room-bookings")
                  }
                />
              </Setting>
            )}
            <details className="mb-2.5">
              <summary className="head cursor-pointer">From a contract: a schema and a sample come with it</summary>
              <div className="mt-2">
                <FromContract title="What comes in" contract={contract} onContract={setContract} onError={setError} />
              </div>
            </details>
            <details className="mb-2.5">
              <summary className="head cursor-pointer">From what the partner sends, and what the target wants</summary>
              <div className="mt-2 grid grid-cols-2 gap-3">
                <Setting label="A message as it comes" hint="paste it, or choose a file: JSON, XML, CSV, HL7">
                  <textarea
                    aria-label="A message as it comes"
                    className="field data"
                    rows={6}
                    spellCheck={false}
                    value={comes}
                    onChange={(e) => setComes(e.target.value)}
                  />
                  <input
                    type="file"
                    aria-label="File of a message as it comes"
                    className="mt-1 text-[12.5px]"
                    onChange={async (e) => {
                      const file = e.target.files?.[0];
                      if (!file) return;
                      setComes(await file.text());
                      if (!title) setTitle(file.name.replace(/\.[^.]*$/, ""));
                    }}
                  />
                </Setting>
                <Setting label="A message as the target wants it" hint="JSON; lines of like names are mapped at once">
                  <textarea
                    aria-label="A message as the target wants it"
                    className="field data"
                    rows={6}
                    spellCheck={false}
                    value={wanted}
                    onChange={(e) => setWanted(e.target.value)}
                  />
                </Setting>
              </div>
            </details>
          </>
        )}
        {error !== undefined && <Trouble error={error} />}
        <div className="sticky -bottom-[18px] -mb-[18px] flex gap-2 border-t border-line bg-paper py-2.5">
          <button type="submit" className="btn btn-go" disabled={!name}>
            Start
          </button>
          <button type="button" className="btn" onClick={onClose}>
            Not now
          </button>
        </div>
      </form>
    </Dialog>
  );
}
