import { useState } from "react";
import { useNavigate } from "react-router";
import { call, enc } from "../api/client";
import { type Contract, FromContract } from "../steps/from-contract";
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

/** Starts a flow: its title, how messages come in, and what a partner's contract says of them. */
export function StartFlow({ open, onClose }: { open: boolean; onClose: () => void }) {
  const go = useNavigate();
  const [title, setTitle] = useState("");
  const [kind, setKind] = useState("webhook");
  const [where, setWhere] = useState("");
  const [contract, setContract] = useState<Contract | null>(null);
  const [error, setError] = useState<unknown>();
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
  return (
    <Dialog open={open} onClose={onClose} title="Start a flow">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          save();
        }}
      >
        <Setting label="Title" hint={name ? `its name is ${name}` : "a few words for people"}>
          <Text label="Title" value={title} onChange={setTitle} placeholder="Room bookings" />
        </Setting>
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
        {error !== undefined && <Trouble error={error} />}
        <div className="mt-3 flex gap-2">
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
