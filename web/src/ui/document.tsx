import { useMemo, useState } from "react";
import type { Schemas } from "../api/client";
import { Grid } from "./grid";
import { Tree } from "./json-tree";
import { Laid, Named } from "./laid";
import type { Looks } from "./pick";
import { layout } from "./tree";

/** Formats that people read as their tree. */
const treeFirst = new Set(["form", "avro", "protobuf"]);

type Body = Schemas["Body"];

/** A message as people read it: each format as itself, and beside that its tree. */
export function Document({ body, ...looks }: Looks & { body: Body | undefined }) {
  const [shown, setShown] = useState<"own" | "names" | "tree" | "bytes" | null>(null);
  const hasNames = !!body?.lines?.some((l) => l.tokens.some((t) => t.title));
  const view = shown ?? (looks.named && hasNames ? "names" : "own");
  const asTree = view === "tree";
  const format = body?.format ?? "";
  const json =
    format === "json" || format === ""
      ? body?.text
      : asTree || (view === "own" && treeFirst.has(format))
        ? body?.tree
        : undefined;
  const lines = useMemo(() => (json === undefined ? null : layout(json)), [json]);
  if (!body) return <p className="p-3 text-quiet">Nothing here yet.</p>;
  const bytes = body.text === undefined && body.tree !== undefined; // what a schema reads
  const own = body.lines !== undefined || (format === "csv" && body.tree !== undefined);
  return (
    <div>
      {(own || bytes) && (
        <p className="flex gap-3 px-3 pt-1.5 text-[12.5px]">
          {(
            [
              ["own", `as ${format.toUpperCase()}`],
              ["names", "by name"],
              ["tree", "as a tree"],
              ["bytes", "as bytes"],
            ] as const
          )
            .filter(([v]) => ({ own: true, names: hasNames, tree: own, bytes })[v])
            .map(([v, title]) => (
              <button
                key={v}
                type="button"
                aria-pressed={view === v}
                className={view === v ? "font-bold" : "text-quiet hover:underline"}
                onClick={() => setShown(v)}
              >
                {title}
              </button>
            ))}
          {body.encoding && <span className="ml-auto text-quiet">{body.encoding}</span>}
        </p>
      )}
      {view === "names" && body.lines ? (
        <Named lines={body.lines} {...looks} />
      ) : lines ? (
        <Tree lines={lines} {...looks} />
      ) : own && body.lines ? (
        <Laid lines={body.lines} {...looks} />
      ) : own && body.tree !== undefined ? (
        <Grid tree={body.tree} {...looks} />
      ) : body.text === undefined ? (
        <Hex base64={body.base64 ?? ""} />
      ) : (
        <pre className="data p-3 whitespace-pre-wrap break-all">{body.text}</pre>
      )}
    </div>
  );
}

/** Bytes that are no text, eight a line. */
function Hex({ base64 }: { base64: string }) {
  const bytes = useMemo(() => Uint8Array.from(atob(base64), (c) => c.charCodeAt(0)), [base64]);
  const rows = Array.from({ length: Math.min(512, Math.ceil(bytes.length / 8)) }, (_, i) =>
    bytes.subarray(i * 8, i * 8 + 8),
  );
  return (
    <div className="data p-3" data-testid="hex">
      {rows.map((r, i) => (
        <div key={i} className="whitespace-pre">
          <span className="text-quiet">{(i * 8).toString(16).padStart(6, "0")} </span>
          {[...r]
            .map((b) => b.toString(16).padStart(2, "0"))
            .join(" ")
            .padEnd(24)}
          <span className="text-quiet">{[...r].map((b) => (b >= 32 && b < 127 ? String.fromCharCode(b) : "·"))}</span>
        </div>
      ))}
      <p className="mt-1 text-quiet">
        {bytes.length} bytes{bytes.length > 4096 && ", the first 4096 are shown"}
      </p>
    </div>
  );
}
