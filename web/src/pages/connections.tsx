import { useState } from "react";
import { useSearchParams } from "react-router";
import { toast } from "sonner";
import { type Connection, call, enc, type Finding, ProblemError, type Tested } from "../api/client";
import { queryClient, useConnections } from "../api/queries";
import { type System, useSystems } from "../systems";
import { type Override, SchemaForm } from "../systems/form";
import { RetryForm } from "../systems/retry";
import { begin, type Value } from "../systems/schema";
import { Document } from "../ui/document";
import { Mark } from "../ui/marks";
import { Empty, PageHead, Setting, says, Text, Trouble } from "../ui/parts";
import { span } from "../ui/time";

export default function ConnectionsPage() {
  const connections = useConnections();
  const systems = useSystems();
  const [search, setSearch] = useSearchParams();
  const open = search.get("open") ?? "";
  const chosen = connections.data?.find((c) => c.name === open);
  const fresh = open.startsWith("+") ? systems.data?.find((s) => s.kind === open.slice(1)) : undefined;
  const system = fresh ?? systems.data?.find((s) => s.kind === chosen?.kind);
  return (
    <>
      <PageHead title="Connections" facts="outside systems, set up once and used by many flows">
        {systems.data
          ?.filter((s) => !s.reached)
          .map((s) => (
            <button key={s.kind} type="button" className="btn" onClick={() => setSearch({ open: `+${s.kind}` })}>
              Let somebody call
            </button>
          ))}
        <button type="button" className="btn btn-go" onClick={() => setSearch({ open: "+" })}>
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
            <List connections={connections.data} open={open} onOpen={(name) => setSearch({ open: name })} />
          )}
        </div>
        <div className="overflow-auto">
          {open === "+" && <Choice systems={systems.data ?? []} onChoose={(kind) => setSearch({ open: `+${kind}` })} />}
          {system && (chosen || fresh) && (
            <Form
              key={chosen ? chosen.name + chosen.updatedAt : open}
              system={system}
              connection={chosen}
              doc={(chosen?.document as Value) ?? { ...begin(system.connection), readyferry: "connection/1", name: "" }}
              onDone={(n) => setSearch(n ? { open: n } : {})}
            />
          )}
          {!chosen && !fresh && open !== "+" && (
            <p className="p-6 text-quiet">Choose a connection to see and change it.</p>
          )}
        </div>
      </div>
    </>
  );
}

function List(p: { connections: Connection[]; open: string; onOpen: (name: string) => void }) {
  return (
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
        {p.connections.map((c) => {
          const d = c.document as { title?: string; address?: string; "sign-in"?: { kind?: string } };
          return (
            <tr
              key={c.name}
              aria-selected={c.name === p.open}
              className="cursor-pointer"
              onClick={() => p.onOpen(c.name)}
            >
              <td>
                <button type="button" className="text-left font-bold" onClick={() => p.onOpen(c.name)}>
                  {c.name}
                </button>
                <div className="text-quiet">{d.title}</div>
              </td>
              <td className="data break-all">{d.address ?? "calls us"}</td>
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
  );
}

/** Which kind of system is to be connected. */
function Choice({ systems, onChoose }: { systems: System[]; onChoose: (kind: string) => void }) {
  return (
    <div className="p-4">
      <h2 className="mb-3 text-[16px]">What kind of system is it?</h2>
      {systems
        .filter((s) => s.reached)
        .map((s) => (
          <button
            key={s.kind}
            type="button"
            className="mb-2 block w-full border border-line bg-sheet px-3 py-2 text-left hover:border-deep"
            onClick={() => onChoose(s.kind)}
          >
            <span className="font-bold">{s.title}</span>
            <span className="block text-quiet">{s.summary}</span>
          </button>
        ))}
    </div>
  );
}

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

function Form({
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
    } catch (e) {
      setTested(null);
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
    <form
      className="p-4"
      onSubmit={(e) => {
        e.preventDefault();
        save();
      }}
    >
      <h2 className="mb-3 text-[16px]">
        {connection ? connection.name : system.title}{" "}
        <span className="font-normal text-quiet">{connection ? system.title : system.summary}</span>
      </h2>
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
        overrides={{ retry: Retry }}
        secretSet={connection?.secretSet}
      />
      {error !== undefined && <Trouble error={error} />}
      <div className="mt-3 flex gap-2">
        <button type="submit" className="btn btn-go" disabled={!name || (!changed && !!connection)}>
          Save
        </button>
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
