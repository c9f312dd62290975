import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, enc, type Imported } from "../api/client";
import { queryClient } from "../api/queries";
import { Dialog, Select, Setting, Text, Trouble } from "../ui/parts";
import { number } from "../ui/time";
import { type Definition, KeyFields, RangeFields } from "./table-parts";

/** Makes a table, from a file or empty. */
export function NewTable({
  name = "",
  onClose,
  onMade,
}: {
  /** What it is called, where something asks for it already. */
  name?: string;
  onClose: () => void;
  onMade: (name: string) => void;
}) {
  const [d, setD] = useState<Definition>({ readyferry: "table/1", name });
  const [file, setFile] = useState<{ name: string; text: string } | null>(null);
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const guess = useQuery({
    queryKey: ["guess", file?.name, file?.text.length],
    enabled: !!file,
    retry: false,
    queryFn: async () =>
      (
        await call<{ rows: number; document: Definition }>("/api/v1/tables/new/guess", {
          method: "POST",
          text: file?.text,
          headers: { "Content-Type": "text/plain" },
        })
      ).value,
  });
  const columns = guess.data?.document.columns ?? [];
  const waits = !!file && guess.isPending;
  const cross = d.kind === "cross-reference";
  const key = d.keys ?? (cross ? [columns.slice(0, 1), columns.slice(1, 2)] : (guess.data?.document.keys ?? [[]]));
  const range = d.keys || d.range || cross ? d.range : guess.data?.document.range;
  const choose = async (f: File | undefined) => {
    if (!f) return;
    setFile({ name: f.name, text: await f.text() });
    if (!d.name)
      setD((x) => ({
        ...x,
        name: f.name
          .replace(/\.[^.]*$/, "")
          .replace(/[^A-Za-z0-9._-]+/g, "-")
          .replace(/^[^A-Za-z0-9]+/, ""),
      }));
  };
  const make = async () => {
    setBusy(true);
    setError(undefined);
    try {
      const kept = Object.fromEntries(
        Object.entries({
          ...d,
          columns: columns.length ? columns : undefined,
          keys: key.some((k) => k.length) || range ? key : undefined,
          range,
        }).filter(([, v]) => v !== undefined && v !== ""),
      );
      await call(`/api/v1/tables/${enc(d.name)}`, { method: "PUT", body: kept, headers: { "If-None-Match": "*" } });
      if (file) {
        try {
          await call<Imported>(`/api/v1/tables/${enc(d.name)}/import`, {
            method: "POST",
            text: file.text,
            headers: { "Content-Type": "text/plain" },
          });
        } catch (e) {
          await call(`/api/v1/tables/${enc(d.name)}`, { method: "DELETE" }).catch(() => {});
          throw e;
        }
      }
      await queryClient.invalidateQueries({ queryKey: ["tables"] });
      onMade(d.name);
    } catch (e) {
      setError(e);
    }
    setBusy(false);
  };
  return (
    <Dialog open onClose={onClose} title="New table">
      <Setting
        label="File"
        hint="CSV whose first row names the columns, or a JSON list of maps; or none for an empty table"
      >
        <input
          type="file"
          aria-label="File"
          accept=".csv,.json,.txt"
          className="field"
          onChange={(e) => choose(e.target.files?.[0])}
        />
      </Setting>
      {guess.error && <Trouble error={guess.error} />}
      <div className="flex gap-2">
        <Setting inline label="Name" hint="letters, digits, hyphens">
          <Text mono label="Name" value={d.name} onChange={(name) => setD({ ...d, name })} placeholder="branches" />
        </Setting>
        <Setting inline label="Title">
          <Text label="Title" value={d.title ?? ""} onChange={(title) => setD({ ...d, title: title || undefined })} />
        </Setting>
      </div>
      <Setting label="Kind">
        <Select
          label="Kind"
          value={d.kind ?? ""}
          onChange={(kind) => setD({ ...d, kind: kind || undefined, keys: undefined })}
          options={[
            ["", "reference: flows read it"],
            ["cross-reference", "cross-reference: it pairs keys of two systems, and flows write it"],
          ]}
        />
      </Setting>
      {/* What the file says of them is on its way: it would come into what is typed meanwhile. */}
      <fieldset className="contents" disabled={waits}>
        <KeyFields columns={columns} cross={cross} keys={key} onChange={(keys) => setD({ ...d, keys })} />
        {!cross && <RangeFields range={range} onChange={(r) => setD({ ...d, keys: key, range: r })} />}
      </fieldset>
      {error !== undefined && <Trouble error={error} />}
      <div className="mt-3 flex justify-end gap-2">
        <button type="button" className="btn" onClick={onClose}>
          Cancel
        </button>
        <button type="button" className="btn btn-go" disabled={!d.name || busy || waits} onClick={make}>
          {busy ? "Loading…" : guess.data ? `Make it with ${number(guess.data.rows)} rows` : "Make it"}
        </button>
      </div>
    </Dialog>
  );
}
