import { useQuery } from "@tanstack/react-query";
import { useContext, useState } from "react";
import { call, enc } from "../api/client";
import { Select, Setting, says, Text } from "../ui/parts";
import { errorAt, type FormProps, withSetting } from "./kit";
import { WriteFile } from "./write-file";

const endings: Record<string, string> = { avro: ".avsc", protobuf: ".proto" };

/** The formats that are written by a schema. */
export const bySchema = (format: string) => format in endings;

// What a new schema begins with.
const beginnings: Record<string, string> = {
  avro: `{
  "type": "record",
  "name": "Message",
  "fields": [
    {"name": "id", "type": "string"}
  ]
}
`,
  protobuf: `syntax = "proto3";

message Message {
  string id = 1;
}
`,
};

/** Makes a file with a schema, without leaving the step. */
function MakeSchema(p: { format: string; ending: string; taken: string[]; onMade: (file: string) => void }) {
  const write = useContext(WriteFile);
  const [name, setName] = useState("message");
  const [text, setText] = useState(beginnings[p.format] ?? "");
  const [error, setError] = useState("");
  const file = `schemas/${name}${p.ending}`;
  const taken = p.taken.includes(file);
  if (!write) return null;
  const make = async () => {
    try {
      await write(file, text);
      p.onMade(file);
    } catch (e) {
      setError(says(e));
    }
  };
  return (
    <details className="mb-2 w-full">
      <summary className="head cursor-pointer">Make a schema here</summary>
      <Setting
        label="Name of the schema"
        error={taken ? "there is such a file already" : error || undefined}
        hint={file}
      >
        <Text mono label="Name of the schema" value={name} onChange={setName} />
      </Setting>
      <textarea
        aria-label="Text of the schema"
        className="field data"
        rows={8}
        spellCheck={false}
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <button type="button" className="btn" disabled={taken || !/^[\w.-]+$/.test(name)} onClick={make}>
        Make it
      </button>
    </details>
  );
}

/** By which file of the flow Avro or Protocol Buffers are written, and what stands around a datum. */
export function SchemaSetting(p: FormProps & { format: string }) {
  const ending = endings[p.format] ?? "";
  const files = useQuery({
    queryKey: ["files", p.names.flow],
    queryFn: async () => (await call<Record<string, string>>(`/api/v1/flows/${enc(p.names.flow)}/files`)).value,
  });
  const file = String(p.step.schema ?? "");
  const known = Object.keys(files.data ?? {}).filter((f) => f.endsWith(ending));
  const put = (name: string, v: string | number | undefined) =>
    p.change(withSetting(p.step, name, v || undefined), name);
  const framing = String(p.step.framing ?? "");
  return (
    <div className="flex flex-wrap gap-x-3">
      <Setting
        inline
        label="Schema"
        hint={known.length ? undefined : "the flow has none yet; make one here, or add a file under Files"}
        error={errorAt(p, "schema")}
      >
        <Select
          label="Schema"
          value={file}
          onChange={(v) => put("schema", v)}
          options={[
            ["", "choose a file"],
            ...[...new Set([...known, file])].filter(Boolean).map((f): [string, string] => [f, f]),
          ]}
        />
      </Setting>
      <MakeSchema
        key={p.format}
        format={p.format}
        ending={ending}
        taken={Object.keys(files.data ?? {})}
        onMade={(made) => put("schema", made)}
      />
      {p.format === "protobuf" && (
        <Setting inline label="Message type" hint="where the file has several" error={errorAt(p, "message-type")}>
          <Text
            label="Message type"
            mono
            value={String(p.step["message-type"] ?? "")}
            onChange={(v) => put("message-type", v)}
          />
        </Setting>
      )}
      {p.format === "avro" && (
        <Setting inline label="Framing">
          <Select
            label="Framing"
            value={framing}
            onChange={(v) => put("framing", v)}
            options={[
              ["", "none"],
              ["single-object", "single object: the schema's fingerprint"],
              ["numbered", "a zero byte and the schema's number"],
              ["container", "a container file of many"],
            ]}
          />
        </Setting>
      )}
      {framing === "numbered" && (
        <Setting inline label="Number of the schema" error={errorAt(p, "schema-number")}>
          <Text
            label="Number of the schema"
            value={String(p.step["schema-number"] ?? "")}
            onChange={(v) => put("schema-number", Number(v) || undefined)}
          />
        </Setting>
      )}
    </div>
  );
}
