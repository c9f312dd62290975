import { useState } from "react";
import { call, type Schemas } from "../api/client";
import { Select, Setting } from "../ui/parts";
import { Pasted } from "../ui/pasted";

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
      <Pasted
        label="Contract"
        file="File of the contract"
        hint="a JSON Schema, OpenAPI 3, AsyncAPI 3, XSD or WSDL 1.1; paste it, or choose a file"
        value={text}
        onChange={setText}
        onRead={(t) => read(t, "")}
      />
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
