import { useState } from "react";
import { useSearchParams } from "react-router";
import { toast } from "sonner";
import { type Connection, call, enc, type Finding, ProblemError, type Tested } from "../api/client";
import { queryClient, useConnections } from "../api/queries";
import { RetryForm } from "../steps/deliver";
import { Document } from "../ui/document";
import { Mark } from "../ui/marks";
import { Empty, PageHead, Select, Setting, says, Text, Trouble } from "../ui/parts";
import { span } from "../ui/time";

// biome-ignore lint/suspicious/noExplicitAny: a connection's document is whatever its kind has
type Doc = any;

export default function ConnectionsPage() {
  const connections = useConnections();
  const [search, setSearch] = useSearchParams();
  const open = search.get("open") ?? "";
  const chosen = connections.data?.find((c) => c.name === open);
  const fresh = open === "+http" || open === "+caller" || open === "+sql";
  return (
    <>
      <PageHead title="Connections" facts="outside systems, set up once and used by many flows">
        <button type="button" className="btn" onClick={() => setSearch({ open: "+sql" })}>
          Connect a database
        </button>
        <button type="button" className="btn" onClick={() => setSearch({ open: "+caller" })}>
          Let somebody call
        </button>
        <button type="button" className="btn btn-go" onClick={() => setSearch({ open: "+http" })}>
          Connect a system
        </button>
      </PageHead>
      {connections.error && <Trouble error={connections.error} />}
      <div className="grid min-h-0 flex-1 grid-cols-[minmax(420px,1fr)_minmax(460px,1fr)]">
        <div className="overflow-auto border-r border-line">
          {connections.data?.length === 0 && (
            <Empty title="No connection yet">
              <p>Deliveries need a system to go to: its address, how to sign in, and how much it can take.</p>
            </Empty>
          )}
          {connections.data && connections.data.length > 0 && (
            <table className="grid-table">
              <thead>
                <tr>
                  <th>Connection</th>
                  <th>Where</th>
                  <th>Signs in by</th>
                  <th>Used by</th>
                </tr>
              </thead>
              <tbody>
                {connections.data.map((c) => {
                  const d = c.document as Doc;
                  return (
                    <tr
                      key={c.name}
                      aria-selected={c.name === open}
                      className="cursor-pointer"
                      onClick={() => setSearch({ open: c.name })}
                    >
                      <td>
                        <button
                          type="button"
                          className="text-left font-bold"
                          onClick={() => setSearch({ open: c.name })}
                        >
                          {c.name}
                        </button>
                        <div className="text-quiet">{d.title}</div>
                      </td>
                      <td className="data break-all">{c.kind === "caller" ? "calls us" : d.address}</td>
                      <td>{d["sign-in"]?.kind ?? "none"}</td>
                      <td>
                        {c.usedBy.join(", ") || <span className="text-quiet">no live flow</span>}
                        {c.waiting > 0 && <div className="text-wait">{c.waiting} wait</div>}
                      </td>
                    </tr>
                  );
                })}
              </tbody>
            </table>
          )}
        </div>
        <div className="overflow-auto">
          {chosen && (
            <Form
              key={chosen.name + chosen.updatedAt}
              connection={chosen}
              doc={chosen.document}
              onDone={(n) => setSearch(n ? { open: n } : {})}
            />
          )}
          {fresh && (
            <Form
              key={open}
              doc={
                open === "+sql"
                  ? {
                      readyferry: "connection/1",
                      name: "",
                      kind: "sql",
                      driver: "sqlite",
                      address: "file:///",
                      "time-limit": "10s",
                    }
                  : open === "+http"
                    ? { readyferry: "connection/1", name: "", kind: "http", address: "https://", "time-limit": "10s" }
                    : {
                        readyferry: "connection/1",
                        name: "",
                        kind: "caller",
                        "sign-in": { kind: "api-key", header: "x-api-key" },
                      }
              }
              onDone={(n) => setSearch(n ? { open: n } : {})}
            />
          )}
          {!chosen && !fresh && <p className="p-6 text-quiet">Choose a connection to see and change it.</p>}
        </div>
      </div>
    </>
  );
}

function Form({
  connection,
  doc,
  onDone,
}: {
  connection?: Connection;
  doc: Doc;
  onDone: (name: string | null) => void;
}) {
  const [d, setD] = useState<Doc>(doc);
  const [secret, setSecret] = useState("");
  const [findings, setFindings] = useState<Finding[]>([]);
  const [error, setError] = useState<unknown>();
  const [tested, setTested] = useState<Tested | "busy" | null>(null);
  const signIn = d["sign-in"] ?? { kind: "none" };
  const at = (ptr: string) => findings.find((f) => f.pointer === ptr)?.message;
  const put = (part: Doc) =>
    setD(Object.fromEntries(Object.entries({ ...d, ...part }).filter(([, v]) => v !== undefined && v !== "")));
  const save = async (): Promise<boolean> => {
    setFindings([]);
    setError(undefined);
    const body = { ...d };
    if (secret) body["sign-in"] = { ...signIn, secret };
    try {
      await call(`/api/v1/connections/${enc(d.name)}`, {
        method: "PUT",
        body,
        headers: connection ? {} : { "If-None-Match": "*" },
      });
      await queryClient.invalidateQueries({ queryKey: ["connections"] });
      toast.success(`${d.name} is saved`);
      onDone(d.name);
      return true;
    } catch (e) {
      if (e instanceof ProblemError && e.findings.length) setFindings(e.findings);
      setError(e);
      return false;
    }
  };
  const test = async () => {
    setTested("busy");
    try {
      setTested((await call<Tested>(`/api/v1/connections/${enc(d.name)}/test`, { method: "POST" })).value);
    } catch (e) {
      setTested(null);
      toast.error(says(e));
    }
  };
  const remove = async () => {
    try {
      await call(`/api/v1/connections/${enc(d.name)}`, { method: "DELETE" });
      await queryClient.invalidateQueries({ queryKey: ["connections"] });
      onDone(null);
    } catch (e) {
      toast.error(says(e));
    }
  };
  const changed = JSON.stringify(d) !== JSON.stringify(doc) || secret !== "";
  return (
    <form
      className="p-4"
      onSubmit={(e) => {
        e.preventDefault();
        save();
      }}
    >
      <h2 className="mb-3 text-[16px]">
        {connection
          ? connection.name
          : d.kind === "sql"
            ? "Connect a database"
            : d.kind === "http"
              ? "Connect a system"
              : "Let somebody call"}
      </h2>
      <div className="flex gap-2">
        <Setting inline label="Name" hint={connection ? undefined : "letters, digits, hyphens"} error={at("/name")}>
          {connection ? (
            <p className="data py-1">{d.name}</p>
          ) : (
            <Text label="Name" mono value={d.name} onChange={(name) => put({ name })} placeholder="shelf-printer" />
          )}
        </Setting>
        <Setting inline label="Title">
          <Text label="Title" value={d.title ?? ""} onChange={(title) => put({ title })} />
        </Setting>
      </div>
      {d.kind === "sql" && (
        <div className="flex gap-2">
          <Setting inline label="Database">
            <Select
              label="Database"
              value={d.driver}
              onChange={(driver) => put({ driver })}
              options={[
                ["sqlite", "SQLite"],
                ["postgresql", "PostgreSQL"],
              ]}
            />
          </Setting>
          <label className="mb-2.5 flex flex-[2] items-end gap-1.5">
            <input
              type="checkbox"
              checked={d.write === true}
              onChange={(e) => put({ write: e.target.checked || undefined })}
            />
            statements may change it; else it is told to refuse that
          </label>
        </div>
      )}
      {d.kind !== "caller" && (
        <div className="flex gap-2">
          <div className="flex-[3]">
            <Setting
              label="Base address"
              hint={
                d.kind === "sql"
                  ? "postgresql://host:5432/database, file:///folder/file.db, or stand-in://name"
                  : "https://host/path, or stand-in://name for one that ships with the application"
              }
              error={at("/address")}
            >
              <Text
                label="Base address"
                mono
                value={d.address ?? ""}
                onChange={(address) => put({ address })}
                invalid={!!at("/address")}
              />
            </Setting>
          </div>
          <div className="flex-1">
            <Setting label="Time limit" error={at("/time-limit")}>
              <Text
                label="Time limit"
                mono
                value={d["time-limit"] ?? ""}
                placeholder="10s"
                onChange={(v) => put({ "time-limit": v })}
              />
            </Setting>
          </div>
        </div>
      )}
      <div className="flex gap-2">
        <Setting inline label="Sign-in" error={at("/sign-in")}>
          <Select
            label="Sign-in"
            value={signIn.kind}
            onChange={(kind) => put({ "sign-in": { kind } })}
            options={
              d.kind === "sql"
                ? [
                    ["none", "none"],
                    ["basic", "user and password"],
                  ]
                : d.kind === "http"
                  ? [
                      ["none", "none"],
                      ["basic", "user and password"],
                      ["bearer", "bearer token"],
                      ["api-key", "API key in a header"],
                    ]
                  : [
                      ["api-key", "API key in a header"],
                      ["basic", "user and password"],
                      ["hmac", "signature (Standard Webhooks)"],
                    ]
            }
          />
        </Setting>
        {signIn.kind === "basic" && (
          <Setting inline label="User">
            <Text label="User" value={signIn.user ?? ""} onChange={(user) => put({ "sign-in": { ...signIn, user } })} />
          </Setting>
        )}
        {signIn.kind === "api-key" && (
          <Setting inline label="Header">
            <Text
              label="Header"
              mono
              value={signIn.header ?? ""}
              placeholder="x-api-key"
              onChange={(header) => put({ "sign-in": { ...signIn, header: header || undefined } })}
            />
          </Setting>
        )}
        {signIn.kind !== "none" && (
          <Setting
            inline
            label={signIn.kind === "basic" ? "Password" : signIn.kind === "bearer" ? "Token" : "Key"}
            hint={connection?.secretSet ? "one is stored and never shown; leave this empty to keep it" : undefined}
          >
            <Text
              label="Secret"
              type="password"
              value={secret}
              onChange={setSecret}
              placeholder={connection?.secretSet ? "stored" : ""}
            />
          </Setting>
        )}
      </div>
      {d.kind !== "caller" && (
        <>
          <div className="flex gap-2">
            <Setting inline label="At once" hint="tries in flight" error={at("/limits/in-flight")}>
              <Text
                label="At once"
                mono
                type="number"
                value={String(d.limits?.["in-flight"] ?? "")}
                placeholder="8"
                onChange={(v) => put({ limits: tidy({ ...d.limits, "in-flight": v ? Number(v) : undefined }) })}
              />
            </Setting>
            <Setting inline label="Per second" hint="no limit when empty" error={at("/limits/per-second")}>
              <Text
                label="Per second"
                mono
                type="number"
                value={String(d.limits?.["per-second"] ?? "")}
                onChange={(v) => put({ limits: tidy({ ...d.limits, "per-second": v ? Number(v) : undefined }) })}
              />
            </Setting>
            <Setting inline label="Pause after" hint="failures in a row" error={at("/breaker/trip")}>
              <Text
                label="Pause after"
                mono
                type="number"
                value={String(d.breaker?.trip ?? "")}
                onChange={(v) => put({ breaker: v ? { probe: "30s", ...d.breaker, trip: Number(v) } : undefined })}
              />
            </Setting>
            {d.kind === "http" && (
              <Setting inline label="The test calls" hint="path below the address" error={at("/test/path")}>
                <Text
                  label="The test calls"
                  mono
                  value={d.test?.path ?? ""}
                  placeholder="/"
                  onChange={(path) => put({ test: path ? { ...d.test, path } : undefined })}
                />
              </Setting>
            )}
          </div>
          <Setting label="Retry plan of deliveries that name none" error={at("/retry")}>
            <RetryForm
              value={d.retry ?? {}}
              onChange={(retry) => put({ retry: Object.keys(retry).length ? retry : undefined })}
              errors={(s) => at(`/retry/${s}`)}
            />
          </Setting>
        </>
      )}
      {error !== undefined && <Trouble error={error} />}
      <div className="mt-3 flex gap-2">
        <button type="submit" className="btn btn-go" disabled={!d.name || (!changed && !!connection)}>
          Save
        </button>
        {connection && d.kind !== "caller" && (
          <button
            type="button"
            className="btn"
            disabled={tested === "busy" || changed}
            title={changed ? "save first" : ""}
            onClick={test}
          >
            {tested === "busy" ? "Calling…" : "Test"}
          </button>
        )}
        <span className="flex-1" />
        {connection && (
          <button type="button" className="btn" onClick={remove}>
            Remove
          </button>
        )}
      </div>
      {tested && tested !== "busy" && (
        <div className="mt-4 border border-line bg-sheet" role="status">
          <p className="flex items-center gap-2 px-3 py-2 font-semibold">
            <Mark state={tested.ok ? "delivered" : "dead letter"} />
            {tested.detail} <span className="font-normal text-quiet">after {span(tested.took)}</span>
          </p>
          {tested.body && <Document body={{ format: "json", text: tested.body }} />}
        </div>
      )}
    </form>
  );
}

function tidy(o: Doc): Doc {
  const kept = Object.fromEntries(Object.entries(o).filter(([, v]) => v !== undefined));
  return Object.keys(kept).length ? kept : undefined;
}
