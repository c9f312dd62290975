import { useCallback, useEffect, useState } from "react";
import { toast } from "sonner";
import { enc, get } from "../api/client";
import { type FlowDocument, type Row, rowsOf } from "../model/model";
import { Code } from "../ui/code";
import { Dialog, Setting, says, Text } from "../ui/parts";

type Files = Record<string, string | undefined>;
const tableOf = (file: string) => /^tables\/([^/]+)\.csv$/.exec(file)?.[1];

/** The steps that read a file: a schema by its name, a table by lookup(). */
function readers(doc: FlowDocument, file: string): string[] {
  const table = tableOf(file);
  const reads = (value: unknown) => {
    const text = JSON.stringify(value).replaceAll('\\"', '"');
    return table
      ? [...text.matchAll(/\blookup\(\s*["']([^"']*)["']/g)].some((m) => m[1] === table)
      : text.includes(`"$ref":"${file}`) || text.includes(`"schema":"${file}"`);
  };
  return rowsOf(doc).flatMap((row: Row) => {
    if (row.kind === "intake") return reads(doc.intake) ? ["the intake"] : [];
    if (row.kind === "way") return [];
    const { steps, ways, otherwise, ...own } = row.step as Record<string, unknown>;
    const conditions = (ways as { when?: string }[] | undefined)?.map((w) => w.when);
    return reads([own, conditions]) ? [row.step.id] : [];
  });
}

/** The flow's own files: schemas that validate steps name, and tables for lookup(). */
export function FilesDialog(p: {
  flow: string;
  doc: FlowDocument;
  open: boolean;
  onClose: () => void;
  /** Writes or removes a file (null) of the draft, after the draft itself has been saved. */
  write: (file: string, text: string | null) => Promise<void>;
}) {
  const [files, setFiles] = useState<Files>({});
  const [chosen, setChosen] = useState<string | null>(null);
  const [name, setName] = useState("");
  const [text, setText] = useState("");
  const [bad, setBad] = useState<string>();
  const [gone, setGone] = useState<{ file: string; text: string }>();
  const pick = useCallback((file: string | null, content: string | undefined, called = file ?? "") => {
    setChosen(file);
    setName(called);
    setText(content ?? "");
    setBad(undefined);
  }, []);
  const load = useCallback(
    async (then?: string) => {
      const now = await get<Files>(`/api/v1/flows/${enc(p.flow)}/files`);
      setFiles(now);
      const first = then && then in now ? then : (Object.keys(now).sort()[0] ?? null);
      pick(first, first === null ? "" : now[first]);
    },
    [p.flow, pick],
  );
  useEffect(() => {
    setGone(undefined);
    if (p.open) load().catch((e) => setBad(says(e)));
  }, [p.open, load]);
  const save = async () => {
    try {
      if (name !== chosen && name in files) throw new Error(`There is a file ${name} already; choose another name`);
      await p.write(name, text);
      if (chosen && chosen !== name) await p.write(chosen, null);
      await load(name);
      toast.success(`${name} is saved with the draft`);
    } catch (e) {
      setBad(says(e));
    }
  };
  const remove = async () => {
    if (!chosen) return;
    const was = { file: chosen, text: files[chosen] ?? "" };
    try {
      await p.write(chosen, null);
      await load();
      setGone(was);
    } catch (e) {
      setBad(says(e));
    }
  };
  const bringBack = async () => {
    if (!gone) return;
    try {
      await p.write(gone.file, gone.text);
      await load(gone.file);
      setGone(undefined);
    } catch (e) {
      setBad(says(e));
    }
  };
  const list = Object.keys(files).sort();
  const begun = chosen === null && name !== "";
  const used = chosen ? readers(p.doc, chosen) : [];
  return (
    <Dialog open={p.open} onClose={p.onClose} title="Files of this flow" wide>
      <p className="mb-3 text-quiet">
        Tables that <span className="data">lookup("name", key)</span> reads, and schemas that steps name. They belong to
        the draft and are published with it.
      </p>
      {gone && (
        <p role="status" className="mb-3">
          The file <span className="data">{gone.file}</span> is gone.{" "}
          <button type="button" className="btn-bare" onClick={bringBack}>
            Bring it back
          </button>
        </p>
      )}
      <div className="flex gap-5">
        <div className="w-60 shrink-0">
          <ul aria-label="Files" className="mb-3">
            {list.map((file) => (
              <li key={file}>
                <button
                  type="button"
                  aria-current={file === chosen}
                  className={`data block w-full truncate px-2 py-1 text-left ${file === chosen ? "bg-mark" : "hover:underline"}`}
                  onClick={() => pick(file, files[file])}
                >
                  {file}
                </button>
              </li>
            ))}
            {list.length === 0 && <li className="text-quiet">No files yet.</li>}
          </ul>
          <div className="flex flex-col items-start gap-1">
            <button
              type="button"
              className="btn-bare"
              onClick={() => pick(null, "key,name\nA,first\n", "tables/table.csv")}
            >
              + table
            </button>
            <button
              type="button"
              className="btn-bare"
              onClick={() => pick(null, '{\n  "type": "object"\n}\n', "schemas/schema.json")}
            >
              + schema
            </button>
            <label className="mt-2">
              <span className="head block">from this computer</span>
              <input
                type="file"
                aria-label="File from this computer"
                accept=".csv,.json,.avsc,.proto"
                className="w-full text-[12.5px]"
                onChange={async (e) => {
                  const file = e.target.files?.[0];
                  if (!file) return;
                  const to = `${file.name.endsWith(".csv") ? "tables" : "schemas"}/${file.name}`;
                  pick(to in files ? to : null, await file.text(), to);
                  e.target.value = "";
                }}
              />
            </label>
          </div>
        </div>
        <div className="min-w-0 flex-1">
          {chosen === null && !begun ? (
            <p className="text-quiet">
              Begin with a table or a schema on the left.
              {bad && (
                <span role="alert" className="block text-dead">
                  {bad}
                </span>
              )}
            </p>
          ) : (
            <>
              <Setting label="Name" hint="tables/name.csv, or schemas/name.json, .avsc, .proto">
                <Text label="Name of the file" value={name} onChange={setName} />
              </Setting>
              <Setting label={kindOf(name)} error={bad}>
                <div className="h-64 border border-line">
                  <Code
                    key={chosen ?? "new"}
                    label="Text of the file"
                    language={/\.(json|avsc)$/.test(name) ? "json" : "text"}
                    value={text}
                    onChange={setText}
                  />
                </div>
              </Setting>
              <div className="flex items-center gap-3">
                <button
                  type="button"
                  className="btn btn-go"
                  disabled={chosen === name && text === files[chosen]}
                  onClick={save}
                >
                  Save the file
                </button>
                {chosen && (
                  <button type="button" className="btn" onClick={remove}>
                    Remove
                  </button>
                )}
                <span className="text-quiet">
                  {chosen && (used.length ? `read by ${used.join(", ")}` : "no step names it")}
                </span>
              </div>
            </>
          )}
        </div>
      </div>
    </Dialog>
  );
}

/** What a file of a flow is, by its name. */
function kindOf(name: string): string {
  if (tableOf(name)) return "Table: the first row names the columns, the first column is the key";
  if (name.endsWith(".avsc")) return "Schema of Avro messages";
  if (name.endsWith(".proto")) return "Protocol Buffers: message types";
  return "JSON Schema";
}
