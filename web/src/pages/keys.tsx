import { useState } from "react";
import { toast } from "sonner";
import { call, enc, type Schemas } from "../api/client";
import { queryClient, useKeys } from "../api/queries";
import { PageHead, Setting, says, Text, Trouble } from "../ui/parts";
import { size, Time } from "../ui/time";

type May = Schemas["Right"]["may"][number];

const rights: [May, string][] = [
  ["send", "send: put in, publish, call"],
  ["take", "take from queues"],
  ["read", "read: look, with contents"],
  ["manage", "manage: what operators, designers and publishers do"],
  ["run", "run: be the runner that connections name"],
];

/** The keys by which programs outside put and take messages, and use the API. */
export default function KeysPage() {
  return (
    <>
      <PageHead title="Keys" facts="by which programs call webhooks, queues over HTTP, and the API" />
      <div className="min-h-0 flex-1 overflow-auto p-4">
        <Keys />
      </div>
    </>
  );
}

function Keys() {
  const keys = useKeys();
  const [made, setMade] = useState<{ name: string; key: string } | null>(null);
  const drop = async (name: string) => {
    try {
      await call(`/api/v1/keys/${enc(name)}`, { method: "DELETE" });
      await queryClient.invalidateQueries({ queryKey: ["keys"] });
    } catch (e) {
      toast.error(says(e));
    }
  };
  return (
    <>
      <p className="mb-3 max-w-[70ch] text-quiet">
        A program sends a key as Authorization: Bearer or X-Api-Key. Several may stand side by side, so that one is
        changed without a gap. The help says how.
      </p>
      {keys.error && <Trouble error={keys.error} />}
      {made && (
        <div role="status" className="mb-3 border border-line bg-sheet p-3">
          <p>
            The key of <b>{made.name}</b>. It is shown now and never again:
          </p>
          <p className="data mt-1 break-all" data-testid="key">
            {made.key}
          </p>
        </div>
      )}
      {keys.data && keys.data.length > 0 && (
        <table className="grid-table mb-4">
          <thead>
            <tr>
              <th>Key</th>
              <th>May</th>
              <th>Last used</th>
              <th>Ends</th>
              <th>
                <span className="sr-only">What can be done</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {keys.data.map((k) => (
              <tr key={k.name}>
                <td>
                  <b>{k.name}</b>
                  {k.note && <div className="text-quiet">{k.note}</div>}
                  {k.perSecond > 0 && <div className="text-quiet">at most {k.perSecond} a second</div>}
                  {k.bytes > 0 && <div className="text-quiet">at most {size(k.bytes)} a second</div>}
                </td>
                <td>
                  {k.rights.map((r) => (
                    <div key={r.on.join()}>
                      {r.may.join(", ")} <span className="data text-quiet">{r.on.join(", ")}</span>
                    </div>
                  ))}
                </td>
                <td>{k.usedAt ? <Time at={k.usedAt} withDate /> : <span className="text-quiet">never</span>}</td>
                <td>{k.until ? <Time at={k.until} withDate /> : <span className="text-quiet">never</span>}</td>
                <td>
                  <button type="button" className="btn-bare" onClick={() => drop(k.name)}>
                    end it
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Make onMade={setMade} />
    </>
  );
}

function Make({ onMade }: { onMade: (made: { name: string; key: string }) => void }) {
  const [name, setName] = useState("");
  const [note, setNote] = useState("");
  const [may, setMay] = useState<May[]>(["take"]);
  const [on, setOn] = useState("");
  const [until, setUntil] = useState("");
  const [perSecond, setPerSecond] = useState("");
  const [bytes, setBytes] = useState("");
  const [bad, setBad] = useState<string>();
  const make = async () => {
    setBad(undefined);
    try {
      const { value } = await call<{ key: string }>(`/api/v1/keys/${enc(name)}`, {
        method: "PUT",
        body: {
          note,
          rights: [{ may, on: on.split(/[\s,]+/).filter(Boolean) }],
          until: until ? new Date(until).toISOString() : null,
          perSecond: Number(perSecond) || 0,
          bytes: Number(bytes) || 0,
        },
      });
      await queryClient.invalidateQueries({ queryKey: ["keys"] });
      onMade({ name, key: value.key });
      setName("");
      setNote("");
    } catch (e) {
      setBad(says(e));
    }
  };
  return (
    <form
      aria-label="Make a key"
      onSubmit={(e) => {
        e.preventDefault();
        make();
      }}
    >
      <div className="flex gap-2">
        <Setting inline label="Name of the key" hint="who has it">
          <Text label="Name of the key" mono value={name} onChange={setName} placeholder="van-company" />
        </Setting>
        <Setting inline label="Note">
          <Text label="Note" value={note} onChange={setNote} />
        </Setting>
        <Setting inline label="Ends" hint="never when empty">
          <Text label="Ends" type="datetime-local" value={until} onChange={setUntil} />
        </Setting>
        <Setting inline label="Calls a second" hint="any number when empty">
          <Text label="Calls a second" type="number" value={perSecond} onChange={setPerSecond} />
        </Setting>
        <Setting inline label="Bytes a second" hint="any number when empty">
          <Text label="Bytes a second" type="number" value={bytes} onChange={setBytes} />
        </Setting>
      </div>
      <fieldset className="mb-2.5 flex flex-wrap gap-x-4 gap-y-1" aria-label="It may">
        {rights.map(([right, words]) => (
          <label key={right} className="flex items-center gap-1.5">
            <input
              type="checkbox"
              checked={may.includes(right)}
              onChange={(e) => setMay(e.target.checked ? [...may, right] : may.filter((m) => m !== right))}
            />
            {words}
          </label>
        ))}
      </fieldset>
      <Setting
        label="On"
        hint="flow:, queue:, topic:, connection:, table: or runner: and a name, area:name; * at the end for any, and alone for everything"
        error={bad}
      >
        <Text label="On" mono value={on} onChange={setOn} placeholder="queue:pickups" />
      </Setting>
      <button type="submit" className="btn btn-go" disabled={!name || !on || may.length === 0}>
        Make a key
      </button>
    </form>
  );
}
