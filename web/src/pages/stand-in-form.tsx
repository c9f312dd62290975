import { useState } from "react";
import { call, enc, type Schemas, type StandInWhole } from "../api/client";
import { queryClient } from "../api/queries";
import { Dialog, Select, Setting, says, Text } from "../ui/parts";

type Definition = Schemas["StandInInput"];

type Kind = NonNullable<Definition["kind"]>;

/** What people are told of each kind. */
export const kinds: Record<Kind, { title: string; about: string; has?: string; example?: string }> = {
  "": { title: "a system over HTTP", about: "" },
  mqtt: {
    title: "a broker for MQTT",
    about:
      "A real broker within the application: it takes what is published and hands it to who subscribes. A status that it is told to answer with stands for the reason code that means the same: 403 is not permitted, 413 too large, 422 not taken, 503 a quota that is used up.",
  },
  amqp: {
    title: "a broker for AMQP 0-9-1",
    about:
      "A small broker within the application: it routes, keeps queues while the application runs, confirms, and returns what is bound to nothing. A status that it is told to answer with stands for what means the same: 403 closes the channel because it is not permitted, 404 because the exchange is not there, 413 because it is too large, 503 takes it not.",
    has: "a line each: queue exchange type key, or the queue alone",
    example: "returns desk topic returns.#",
  },
  stream: {
    title: "a partitioned log",
    about:
      "A log within the application, in memory: it keeps what is appended while the application runs, and groups read it. A status that it is told to answer with stands for the error that means the same: 403 is not permitted, 404 no such topic, 413 too large, 422 no such record, 429 the quota, 503 too few replicas, 507 a full disk.",
    has: "a line each: a topic and how many partitions it has",
    example: "loans 6",
  },
  nats: {
    title: "a broker for NATS",
    about:
      "A real broker within the application, whose streams are kept in memory. A status that it is told to answer with stands for the error that means the same: 403 is not permitted, 413 too large, 422 no such headers, 503 the stream does not store it, 507 it is full.",
    has: "a line each: a stream and its subjects",
    example: "RETURNS desk.returns.>",
  },
  files: {
    title: "a folder",
    about: "A folder below the data folder: flows take files from it and write them there.",
    has: "a line each: a folder within it",
    example: "out",
  },
  sftp: {
    title: "a server for SFTP",
    about:
      "A real server within the application, with a folder of its own. A status that it is told to answer a write with stands for what means the same: 403 is not permitted, 503 and 507 a failure.",
    has: "a line each: a folder",
    example: "outgoing",
  },
  ftp: {
    title: "a server for FTP",
    about:
      "A real server within the application, with a folder of its own. A status that it is told to answer a write with stands for what means the same: 507 is a full disk, any other a refusal (550).",
    has: "a line each: a folder",
    example: "in",
  },
  tcp: {
    title: "a partner over MLLP",
    about:
      "It acknowledges the HL7 messages that it receives, and sends those that you let it send to the flow that receives from it. A status that it is told to answer with stands for what means the same: 4xx is AE, 409 an acknowledgement of another message, 5xx AR.",
  },
  objects: {
    title: "object storage",
    about:
      "A real server of the S3 interface within the application, with one bucket of its own name. A status that it is told to answer a write with stands for what means the same: 403 is AccessDenied, 413 too large, 503 SlowDown, 507 full.",
    has: "a line each: a folder",
    example: "incoming",
  },
  mail: {
    title: "a mail server",
    about:
      "Two real servers within the application, in memory: one takes mails (SMTP), the other shows a mailbox (IMAP) into which you let mails come. A status that it is told to answer with stands for what means the same: 403 is not permitted (550), 413 too large (552), 503 not now (451), 507 a full disk (452).",
    has: "a line each: a folder, or an address that mails are taken for, and then for no other",
    example: "quill@mail.example",
  },
};

const routes = (list: Definition["routes"]) =>
  (list ?? [])
    .map((r) => `${r.method} ${r.path} ${r.status || ""}`.trimEnd() + (r.body ? `\n  ${r.body}` : ""))
    .join("\n");

/** Routes as they are written: a line with method, path and status, below it the body, set in. */
function readRoutes(text: string): Definition["routes"] {
  const out: NonNullable<Definition["routes"]> = [];
  for (const line of text.split("\n")) {
    const last = out.at(-1);
    if (/^\s/.test(line) && last) last.body += (last.body ? "\n" : "") + line.trim();
    else if (line.trim()) {
      const [method = "", path = "", status = "0"] = line.trim().split(/\s+/);
      out.push({ method: method.toUpperCase(), path, status: Number(status) || 0, body: "" });
    }
  }
  return out;
}

/** Makes a stand-in, or changes what one does when nothing else is asked of it. */
export function StandInForm(p: { of: StandInWhole | null; onClose: () => void; onDone: (name: string) => void }) {
  const [name, setName] = useState(p.of?.name ?? "");
  const [kind, setKind] = useState<Kind>((p.of?.kind ?? "") as Kind);
  const [has, setHas] = useState((p.of?.has ?? []).join("\n"));
  const [title, setTitle] = useState(p.of?.title ?? "");
  const [note, setNote] = useState(p.of?.note ?? "");
  const [status, setStatus] = useState(String(p.of?.status ?? 200));
  const [type, setType] = useState(p.of ? (p.of.headers["Content-Type"] ?? "") : "application/json");
  const [body, setBody] = useState(p.of?.body ?? "{}");
  const [delay, setDelay] = useState(String(p.of?.delay ?? 0));
  const [every, setEvery] = useState(p.of?.falters ? String(p.of.falters.every) : "");
  const [failing, setFailing] = useState(String(p.of?.falters?.status ?? 503));
  const [particular, setParticular] = useState(routes(p.of?.routes));
  const [gives, setGives] = useState(!!p.of?.tokens);
  const [good, setGood] = useState(String(p.of?.tokens?.seconds || 3600));
  const [bad, setBad] = useState<string>();
  const save = async () => {
    const { "Content-Type": _, ...others } = p.of?.headers ?? {};
    const definition: Definition = {
      kind,
      title,
      note,
      status: Number(status),
      body,
      delay: Number(delay),
      headers: type ? { ...others, "Content-Type": type } : others,
      falters: every ? { every: Number(every), status: Number(failing) } : null,
      routes: readRoutes(particular),
      tokens: kind === "" && gives ? { ...p.of?.tokens, seconds: Number(good) } : null,
      has: has
        .split("\n")
        .map((line) => line.trim())
        .filter(Boolean),
    };
    try {
      await call(`/api/v1/stand-ins/${enc(name)}`, {
        method: "PUT",
        body: definition,
        headers: p.of ? {} : { "If-None-Match": "*" },
      });
      await queryClient.invalidateQueries({ queryKey: ["stand-ins"] });
      p.onDone(name);
    } catch (e) {
      setBad(says(e));
    }
  };
  return (
    <Dialog open wide onClose={p.onClose} title={p.of ? `Change ${p.of.title}` : "Make a stand-in"}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          save();
        }}
      >
        <div className="flex gap-2">
          <Setting inline label="Name" hint={p.of ? "it keeps its name" : "small letters, digits and -"}>
            {p.of ? (
              <span className="data">{name}</span>
            ) : (
              <Text mono label="Name" value={name} onChange={setName} placeholder="shelf-printer" />
            )}
          </Setting>
          {!p.of && (
            <Setting inline label="It is">
              <Select
                label="It is"
                value={kind}
                onChange={(v) => setKind(v as Kind)}
                options={Object.entries(kinds).map(([k, words]): [string, string] => [k, words.title])}
              />
            </Setting>
          )}
          <Setting inline label="Title">
            <Text label="Title" value={title} onChange={setTitle} placeholder={name} />
          </Setting>
          <Setting inline label="Note">
            <Text label="Note" value={note} onChange={setNote} placeholder="what it stands for" />
          </Setting>
        </div>
        <div className="flex gap-2">
          {kind === "" && (
            <>
              <Setting inline label="Answers" hint="status, 200 to 599">
                <Text mono type="number" label="Answers" value={status} onChange={setStatus} />
              </Setting>
              <Setting inline label="Content type">
                <Text mono label="Content type" value={type} onChange={setType} placeholder="none" />
              </Setting>
            </>
          )}
          <Setting inline label="After" hint="milliseconds">
            <Text mono type="number" label="After" value={delay} onChange={setDelay} />
          </Setting>
          <Setting inline label="Fails every" hint="n-th call; empty: never">
            <Text mono type="number" label="Fails every" value={every} onChange={setEvery} placeholder="never" />
          </Setting>
          <Setting inline label="With" hint="status">
            <Text mono type="number" label="With" value={failing} onChange={setFailing} />
          </Setting>
        </div>
        {kind !== "" ? (
          <>
            <p className="mb-3 text-quiet">{kinds[kind].about}</p>
            {kinds[kind].has && (
              <Setting label="What there is in it" hint={kinds[kind].has} error={bad}>
                <textarea
                  aria-label="What there is in it"
                  className="field data h-24"
                  value={has}
                  spellCheck={false}
                  placeholder={kinds[kind].example}
                  onChange={(e) => setHas(e.target.value)}
                />
              </Setting>
            )}
          </>
        ) : (
          <>
            <div className="mb-2.5 flex items-center gap-3">
              <label className="flex items-center gap-1.5">
                <input type="checkbox" checked={gives} onChange={(e) => setGives(e.target.checked)} />
                it gives access tokens at /token, and takes nothing without one
              </label>
              {gives && (
                <span className="flex items-center gap-1.5">
                  good for
                  <span className="w-24">
                    <Text mono type="number" label="Seconds that a token is good" value={good} onChange={setGood} />
                  </span>
                  seconds
                </span>
              )}
            </div>
            <Setting label="Body" hint="${n} is the number of the call">
              <textarea
                aria-label="Body"
                className="field data h-20"
                value={body}
                spellCheck={false}
                onChange={(e) => setBody(e.target.value)}
              />
            </Setting>
            <Setting
              label="Particular calls"
              hint="a line each with method, path and status, its body below, set in; {name} in the path is ${name} in the body"
              error={bad}
            >
              <textarea
                aria-label="Particular calls"
                className="field data h-24"
                value={particular}
                spellCheck={false}
                placeholder={'GET /members/{id} 200\n  {"number": "${id}"}'}
                onChange={(e) => setParticular(e.target.value)}
              />
            </Setting>
          </>
        )}
        {kind !== "" && !kinds[kind].has && bad && (
          <p role="alert" className="mb-2 text-dead">
            {bad}
          </p>
        )}
        <button type="submit" className="btn btn-go">
          {p.of ? "Change it" : "Make it"}
        </button>
      </form>
    </Dialog>
  );
}
