import { useQuery } from "@tanstack/react-query";
import { call, enc } from "../api/client";
import { Select, Setting, Text } from "../ui/parts";
import { errorAt, type FormProps, withSetting } from "./kit";

const endings: Record<string, string> = { avro: ".avsc", protobuf: ".proto" };

/** The formats that are written by a schema. */
export const bySchema = (format: string) => format in endings;

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
        hint={known.length ? undefined : `add a file that ends in ${ending} under Files`}
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
