import type { Finding } from "../api/client";
import { at } from "../model/edit";
import type { FlowDocument } from "../model/model";

/** What a flow names and there is not. */
export type Lacking = { what: "connection" | "table"; name: string };

/** What a finding says there is not, where it can be made without leaving the sheet. */
export function lackingOf(f: Finding, doc: FlowDocument): Lacking | null {
  const what = { "unknown-connection": "connection", "unknown-table": "table" }[f.code] as Lacking["what"] | undefined;
  if (!what) return null;
  const place = f.pointer
    .split("/")
    .slice(1)
    .map((k) => (/^\d+$/.test(k) ? Number(k) : k.replace(/~1/g, "/").replace(/~0/g, "~")));
  const name = at(doc, place);
  return typeof name === "string" && name !== "" ? { what, name } : null;
}
