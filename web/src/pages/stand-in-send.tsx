import { useState } from "react";
import { toast } from "sonner";
import { call, enc } from "../api/client";
import { queryClient } from "../api/queries";
import { Setting, says, Text } from "../ui/parts";

/** Headers as they are written: name: value, divided by semicolons. */
const readHeaders = (text: string) =>
  Object.fromEntries(
    text
      .split(";")
      .map((one) => one.split(/:(.*)/s).map((part) => part.trim()))
      .filter(([name]) => name)
      .map(([name, value]) => [name ?? "", value ?? ""]),
  );

/** What a person can have a stand-in say, in the words of each protocol. */
export interface Place {
  form: string;
  go: string;
  label?: string; // of what the message goes to
  placeholder?: string;
  exchange?: boolean;
  key?: { label: string; placeholder: string };
  headers?: boolean;
  lines?: boolean; // the message has several
  file?: boolean;
  body?: string;
}

const broker = (label: string, placeholder: string, more: Partial<Place> = {}): Place => ({
  form: "Publish from here",
  go: "Publish",
  label,
  placeholder,
  headers: true,
  ...more,
});

const files: Place = {
  form: "Lay a file down",
  go: "Lay it down",
  label: "Name of the file",
  placeholder: "out/new.csv",
  lines: true,
  file: true,
  body: "What it holds",
};

export const places: Record<string, Place> = {
  mqtt: broker("Publish to", "branches/ELMS/shelves"),
  amqp: broker("Routing key", "returns.ELMS", { exchange: true }),
  stream: broker("Topic", "loans", { key: { label: "Key", placeholder: "none: spread" } }),
  nats: broker("Subject", "desk.returns.ELMS"),
  files,
  sftp: files,
  ftp: files,
  objects: { ...files, label: "Name of the object" },
  mail: {
    form: "Let a mail come",
    go: "Let it come",
    label: "Subject",
    placeholder: "Re: 2 overdue",
    key: { label: "From", placeholder: "quill@mail.example" },
    headers: true,
    lines: true,
    body: "What it says",
  },
  tcp: { form: "Send an HL7 message", go: "Send it", lines: true, body: "The message, a line for each segment" },
};

/** What people are told when it was said. */
function told(kind: string, exchange: string, topic: string): string {
  if (places[kind]?.file) return `${topic} is there`;
  if (kind === "mail") return `${topic || "A mail"} is in the mailbox`;
  if (kind === "tcp") return "It is answered; see what by, below";
  return `It is published to ${[exchange, topic].filter(Boolean).join(", ")}`;
}

/** Lets a stand-in say something, or have a file, so that a flow that receives is tried without any other tool. */
export function SendFrom({ name, kind }: { name: string; kind: string }) {
  const place = places[kind] ?? broker("Publish to", "");
  const [topic, setTopic] = useState("");
  const [exchange, setExchange] = useState("");
  const [key, setKey] = useState("");
  const [more, setMore] = useState("");
  const [body, setBody] = useState(place.lines ? "" : "{}");
  const send = async () => {
    try {
      const json: Record<string, string> = /^\s*[{[]/.test(body) ? { "Content-Type": "application/json" } : {};
      await call(`/api/v1/stand-ins/${enc(name)}/send`, {
        body: { topic, exchange, key, body, headers: { ...json, ...readHeaders(more) }, qos: 1 },
      });
      toast.success(told(kind, exchange, topic));
      await queryClient.invalidateQueries({ queryKey: ["stand-ins", name] });
    } catch (e) {
      toast.error(says(e));
    }
  };
  const message = place.body ?? "The message";
  return (
    <form
      aria-label={place.form}
      className="flex shrink-0 items-end gap-2 border-b border-line px-4 pt-2"
      onSubmit={(e) => {
        e.preventDefault();
        send();
      }}
    >
      {place.exchange && (
        <Setting inline label="Exchange">
          <Text
            mono
            label="Exchange"
            value={exchange}
            onChange={setExchange}
            placeholder="none: into the queue itself"
          />
        </Setting>
      )}
      {place.label && (
        <Setting inline label={place.label}>
          <Text mono label={place.label} value={topic} onChange={setTopic} placeholder={place.placeholder} />
        </Setting>
      )}
      {place.key && (
        <Setting inline label={place.key.label}>
          <Text mono label={place.key.label} value={key} onChange={setKey} placeholder={place.key.placeholder} />
        </Setting>
      )}
      {place.headers && (
        <Setting inline label="Headers">
          <Text mono label="Headers" value={more} onChange={setMore} placeholder="name: value; name: value" />
        </Setting>
      )}
      <div className="flex-[2]">
        <Setting inline label={message}>
          {place.lines ? (
            <textarea
              aria-label={message}
              className="field data h-16 w-full"
              value={body}
              spellCheck={false}
              onChange={(e) => setBody(e.target.value)}
            />
          ) : (
            <Text mono label={message} value={body} onChange={setBody} />
          )}
        </Setting>
      </div>
      <button type="submit" className="btn mb-2.5">
        {place.go}
      </button>
    </form>
  );
}
