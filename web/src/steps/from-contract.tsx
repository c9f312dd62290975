import { useState } from "react";
import { call, type Schemas } from "../api/client";
import { Select, Setting } from "../ui/parts";

export type Contract = Schemas["Contract"];

/** What a partner sent about the messages, and which of them comes in here. */
export function FromContract({
  contract,
  title,
  onContract,
  onError,
}: {
  title: string;
  contract: Contract | null;
  onContract: (c: Contract | null) => void;
  onError: (e: unknown) => void;
}) {
  const [text, setText] = useState("");
  const [choose, setChoose] = useState("");
  const read = async (t: string, choice: string) => {
    onError(undefined);
    try {
      const { value } = await call<Contract>("/api/v1/contracts", {
        body: choice ? { text: t, choose: choice } : { text: t },
      });
      const only = value.choices[0]?.name ?? "";
      setChoose(choice || only);
      if (choice || !only) onContract(value);
      else await read(t, only);
    } catch (e) {
      onContract(null);
      onError(e);
    }
  };
  return (
    <>
      <Setting
        label="Contract"
        hint="a JSON Schema, OpenAPI 3, AsyncAPI 3, XSD or WSDL 1.1; paste it, or choose a file"
      >
        <textarea
          aria-label="Contract"
          className="field data"
          rows={4}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
      </Setting>
      <div className="mb-2.5 flex items-center gap-3">
        <input
          type="file"
          aria-label="File of the contract"
          onChange={async (e) => {
            const file = e.target.files?.[0];
            if (!file) return;
            const t = await file.text();
            setText(t);
            await read(t, "");
          }}
        />
        <button type="button" className="btn" disabled={!text.trim()} onClick={() => read(text, "")}>
          Read it
        </button>
      </div>
      {contract && (
        <Setting label={`${contract.kind}: ${title.toLowerCase()}`}>
          <Select
            label={title}
            value={choose}
            onChange={(c) => read(text, c)}
            options={contract.choices.map((c): [string, string] => [c.name, c.title])}
          />
        </Setting>
      )}
      {contract?.made && (
        <>
          <pre className="data max-h-32 overflow-auto border border-line bg-sheet p-2" data-testid="made">
            {contract.made.sample}
          </pre>
          {contract.made.notes.map((n) => (
            <p key={n} className="mt-1 text-[12.5px] text-wait">
              {n}
            </p>
          ))}
        </>
      )}
    </>
  );
}
