import { useState } from "react";
import { Link } from "react-router";
import { toast } from "sonner";
import { type Connection, call, enc, type Finding, ProblemError, type Tested } from "../api/client";
import { queryClient, useOffers } from "../api/queries";
import type { System } from "../systems";
import { type Override, SchemaForm } from "../systems/form";
import { FromPartner } from "../systems/operations";
import { RetryForm } from "../systems/retry";
import { settingsOf, type Value } from "../systems/schema";
import { Document } from "../ui/document";
import { Mark } from "../ui/marks";
import { Setting, says, Text, Trouble } from "../ui/parts";
import { span, Time } from "../ui/time";
import { SourceDesk } from "./source";
import { TargetDesk } from "./target";

const Retry: Override = ({ property, value, onChange, error }) => (
  <Setting label="Retry plan of deliveries that name none" error={error("retry")}>
    <RetryForm
      schema={property}
      value={(value ?? {}) as Value}
      onChange={onChange}
      errors={(s) => error(`retry/${s}`)}
    />
  </Setting>
);

/** One connection: its settings, its test step by step, and what happened to it lately. */
export function ConnectionDesk({
  system,
  connection,
  doc,
  onDone,
}: {
  system: System;
  connection?: Connection;
  doc: Value;
  onDone: (name: string | null) => void;
}) {
  const [d, setD] = useState<Value>(doc);
  const [findings, setFindings] = useState<Finding[]>([]);
  const [error, setError] = useState<unknown>();
  const [tested, setTested] = useState<Tested | "busy" | null>(null);
  const name = String(d.name ?? "");
  const at = (setting: string) => findings.find((f) => f.pointer === `/${setting}`)?.message;
  const save = async () => {
    setFindings([]);
    setError(undefined);
    try {
      await call(`/api/v1/connections/${enc(name)}`, {
        method: "PUT",
        body: d,
        headers: connection ? {} : { "If-None-Match": "*" },
      });
      await queryClient.invalidateQueries({ queryKey: ["connections"] });
      toast.success(`${name} is saved`);
      onDone(name);
    } catch (e) {
      if (e instanceof ProblemError && e.findings.length) setFindings(e.findings);
      setError(e);
    }
  };
  const test = async () => {
    setTested("busy");
    try {
      setTested((await call<Tested>(`/api/v1/connections/${enc(name)}/test`, { method: "POST" })).value);
      await queryClient.invalidateQueries({ queryKey: ["connections"] });
    } catch (e) {
      setTested(null);
      toast.error(says(e));
    }
  };
  const signIn = async () => {
    try {
      const { value } = await call<{ address: string }>(`/api/v1/connections/${enc(name)}/sign-in`, { method: "POST" });
      window.location.assign(value.address);
    } catch (e) {
      toast.error(says(e));
    }
  };
  const remove = async () => {
    try {
      await call(`/api/v1/connections/${enc(name)}`, { method: "DELETE" });
      await queryClient.invalidateQueries({ queryKey: ["connections"] });
      onDone(null);
    } catch (e) {
      toast.error(says(e));
    }
  };
  const changed = JSON.stringify(d) !== JSON.stringify(doc);
  return (
    <div className="grid min-h-0 flex-1 grid-cols-[minmax(400px,1.25fr)_minmax(280px,1fr)_minmax(240px,0.8fr)] border-t-2 border-deep">
      <form
        className="min-h-0 overflow-auto border-r border-line"
        onSubmit={(e) => {
          e.preventDefault();
          save();
        }}
      >
        <h2 className="pane-head min-h-[43px] items-center">
          {connection ? connection.name : system.title}{" "}
          <span className="min-w-0 truncate font-normal text-quiet">{connection ? system.title : system.summary}</span>
          {connection?.by && (
            <span className="ml-auto font-normal text-quiet">
              saved by {connection.by} <Time at={connection.updatedAt} withDate />
            </span>
          )}
        </h2>
        {connection && connection.kind !== "caller" && <TargetDesk name={connection.name} />}
        {connection && connection.kind !== "caller" && <SourceDesk name={connection.name} />}
        <div className="p-3">
          <div className="flex gap-2">
            <Setting inline label="Name" hint={connection ? undefined : "letters, digits, hyphens"} error={at("name")}>
              {connection ? (
                <p className="data py-1">{name}</p>
              ) : (
                <Text label="Name" mono value={name} onChange={(v) => setD({ ...d, name: v })} />
              )}
            </Setting>
            <Setting inline label="Title">
              <Text label="Title" value={String(d.title ?? "")} onChange={(title) => setD({ ...d, title })} />
            </Setting>
          </div>
          <SchemaForm
            schema={system.connection}
            value={d}
            onChange={setD}
            error={at}
            omit={["name", "title", "kind", "readyferry", "note"]}
            overrides={{
              retry: Retry,
              operations: ({ value }) => (
                <FromPartner
                  kind={system.kind}
                  value={value}
                  onRead={(operations, address) => {
                    const { operations: _, ...rest } = d;
                    const unset = !d.address || d.address === system.connection.properties?.address?.default;
                    setD({
                      ...rest,
                      ...(unset && address ? { address } : {}),
                      ...(operations ? { operations } : {}),
                    });
                  }}
                />
              ),
            }}
            secretSet={connection?.secretSet}
            columns={2}
          />
          {error !== undefined && <Trouble error={error} />}
          <div className="mt-3 flex gap-2">
            <button type="submit" className="btn btn-go" disabled={!name || (!changed && !!connection)}>
              Save
            </button>
            <span className="flex-1" />
            {connection && (
              <button type="button" className="btn" onClick={remove}>
                Remove
              </button>
            )}
          </div>
        </div>
      </form>
      <section className="flex min-h-0 flex-col border-r border-line bg-sheet" aria-label="Test, step by step">
        <div className="pane-head min-h-[43px] items-center bg-paper">
          <h2>Test, step by step</h2>
          <span className="min-w-0 flex-1 truncate text-quiet">
            {tested && tested !== "busy" && `took ${span(tested.took)}`}
          </span>
          {connection && byPerson(connection) && (
            <button
              type="button"
              className="btn"
              disabled={changed}
              title={changed ? "save first" : "a person signs in once, in this browser"}
              onClick={signIn}
            >
              Sign in
            </button>
          )}
          {connection && system.reached && (
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
        </div>
        <div className="min-h-0 flex-1 overflow-auto" role="status">
          {(!tested || tested === "busy") && (
            <p className="p-3 text-quiet">
              {!connection
                ? "A connection is tested once it is saved."
                : system.reached
                  ? "The test goes as far as it can: the name, the way there, TLS, the sign-in, and what flows name."
                  : "Whoever it is calls us, so there is nothing to test from here."}
            </p>
          )}
          {tested && tested !== "busy" && <Steps tested={tested} />}
        </div>
      </section>
      <Lately connection={connection} system={system} />
    </div>
  );
}

/** Whether a person signs in to it once. */
const byPerson = (c: Connection) =>
  (c.document as { "sign-in"?: { grant?: string } })["sign-in"]?.grant === "authorization-code";

/** How far a test came, and what to do where it ended. */
function Steps({ tested }: { tested: Tested }) {
  return (
    <>
      <ol className="p-3">
        {tested.steps.map((s, i) => (
          <li key={i} className="mb-1.5 flex items-start gap-2">
            <span className="mt-1">
              <Mark state={s.untried ? "" : s.ok ? "delivered" : "dead letter"} />
            </span>
            <div className={s.untried ? "text-quiet" : s.ok ? "" : "text-dead"}>
              {s.untried && "not tried: "}
              {s.detail}
              {s.repair && <p className="text-ink">{s.repair}</p>}
            </div>
          </li>
        ))}
        {(tested.ok || tested.steps.length === 0) && (
          <li className="flex items-start gap-2 font-semibold">
            <span className="mt-1">
              <Mark state={tested.ok ? "delivered" : "dead letter"} />
            </span>
            {tested.detail}
          </li>
        )}
      </ol>
      {tested.body && <Document body={{ format: "json", text: tested.body }} />}
    </>
  );
}

function Lately({ connection, system }: { connection?: Connection; system: System }) {
  const what = settingsOf(system.intake).find(([, s]) => s.offers)?.[0] ?? "";
  const offered = useOffers(what ? connection?.name : undefined, what);
  const address = String((connection?.document as { address?: string } | undefined)?.address ?? "");
  const standIn = /^stand-in:\/\/([^/.]+)/.exec(address)?.[1];
  return (
    <section className="flex min-h-0 flex-col" aria-label="Lately">
      <div className="pane-head min-h-[43px] items-center">
        <h2>Lately</h2>
      </div>
      <div className="min-h-0 flex-1 overflow-auto p-3">
        {connection?.condition.lately.map((e) => (
          <p key={e.at + e.detail} className="mb-1.5">
            <span className="text-quiet">
              <Time at={e.at} />
            </span>{" "}
            <span className={e.good ? "" : "text-dead"}>{e.detail}</span>
          </p>
        ))}
        {!connection?.condition.lately.length && <p className="mb-2 text-quiet">Nothing since the start.</p>}
        {offered.length > 0 && (
          <>
            <h3 className="head mt-3 mb-1">There is</h3>
            <ul className="data mb-2">
              {offered.slice(0, 50).map((one) => (
                <li key={one}>{one}</li>
              ))}
            </ul>
          </>
        )}
        {standIn && (
          <Link className="btn mt-2 inline-block" to={`/stand-ins?open=${encodeURIComponent(standIn)}`}>
            See its stand-in, send one from there
          </Link>
        )}
      </div>
    </section>
  );
}
