import { useState } from "react";
import { call, type Schemas } from "../api/client";
import { Select, Setting, says } from "../ui/parts";
import { Pasted } from "../ui/pasted";
import type { Value } from "./schema";

export type Operation = Schemas["PartnerOperation"];
type Partner = NonNullable<Schemas["Contract"]["partner"]>;

/** Operations of a connection, as its partner's contract has them: read anew, or taken away. */
export function FromPartner(p: {
  kind: string;
  value: unknown;
  onRead: (operations: Operation[] | undefined, address?: string) => void;
}) {
  const [text, setText] = useState("");
  const [bad, setBad] = useState<string>();
  const [notes, setNotes] = useState<string[]>([]);
  const has = (p.value ?? []) as Operation[];
  const read = async (t: string) => {
    setBad(undefined);
    try {
      const { value } = await call<{ kind: string; partner?: Partner }>("/api/v1/contracts", { body: { text: t } });
      if (!value.partner) return setBad(`the ${value.kind} says nothing of what the partner takes`);
      const at = value.partner.servers.find((s) => s.kind === p.kind);
      const other = value.partner.servers[0];
      setNotes([
        ...value.partner.notes,
        ...(!at && other ? [`its server is reached by a connection of kind ${other.kind}: ${other.address}`] : []),
      ]);
      p.onRead(value.partner.operations, at?.address);
    } catch (e) {
      setBad(says(e));
    }
  };
  return (
    <details className="mb-2.5" open={has.length > 0 || undefined}>
      <summary className="head cursor-pointer">
        {has.length > 0 ? `${has.length} operations of the partner's contract` : "From the partner's contract"}
      </summary>
      <div className="mt-2">
        {has.length > 0 && (
          <ul className="data mb-2 max-h-32 overflow-auto border border-line bg-sheet p-2">
            {has.map((o) => (
              <li key={o.name}>{o.title || o.name}</li>
            ))}
          </ul>
        )}
        <Pasted
          label="Contract"
          file="File of the contract"
          hint="an OpenAPI 3, AsyncAPI 3 or WSDL 1.1; deliveries are offered its operations, and the address is taken from it"
          error={bad}
          value={text}
          onChange={setText}
          onRead={read}
        >
          {has.length > 0 && (
            <button type="button" className="btn-bare" onClick={() => p.onRead(undefined)}>
              take them away
            </button>
          )}
        </Pasted>
        {notes.map((n) => (
          <p key={n} className="mb-1 text-[12.5px] text-wait">
            {n}
          </p>
        ))}
      </div>
    </details>
  );
}

/** The operation of a delivery: what a partner offers fills in the settings. */
export function ChooseOperation(p: { operations: Operation[]; step: Value; onChoose: (settings: Value) => void }) {
  const says = (o: Operation) =>
    Object.entries(o.settings).every(([k, v]) => JSON.stringify(p.step[k]) === JSON.stringify(v));
  const now = p.operations.find(says);
  return (
    <>
      <Setting label="Operation" hint="as the partner's contract has it">
        <Select
          label="Operation"
          value={now?.name ?? ""}
          onChange={(name) => {
            const o = p.operations.find((one) => one.name === name);
            if (o) p.onChoose(o.settings);
          }}
          options={[["", "another"], ...p.operations.map((o): [string, string] => [o.name, o.title || o.name])]}
        />
      </Setting>
      {now?.sample && (
        <details className="mb-2.5">
          <summary className="head cursor-pointer">What it takes, made up</summary>
          <pre className="data mt-1 max-h-40 overflow-auto whitespace-pre-wrap border border-line bg-sheet p-2">
            {now.sample}
          </pre>
        </details>
      )}
    </>
  );
}
