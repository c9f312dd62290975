import { useState } from "react";
import type { Finding } from "../api/client";
import { queryClient } from "../api/queries";
import { at } from "../model/edit";
import type { FlowDocument } from "../model/model";
import { ConnectionDesk } from "../pages/connection-desk";
import { Choice } from "../pages/connections";
import { NewTable } from "../pages/new-table";
import { useSystems } from "../systems";
import { begin, type Value } from "../systems/schema";
import { Dialog } from "../ui/parts";

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

/** Makes a connection or a table that a step names, over the sheet. */
export function MakeHere({ lacking, onClose }: { lacking: Lacking | null; onClose: () => void }) {
  const systems = useSystems();
  const [kind, setKind] = useState("");
  const close = () => {
    setKind("");
    onClose();
    void queryClient.invalidateQueries({ queryKey: ["flows"] });
  };
  if (lacking?.what === "table") return <NewTable name={lacking.name} onClose={close} onMade={close} />;
  const system = systems.data?.find((s) => s.kind === kind);
  return (
    <Dialog open={lacking !== null} onClose={close} title={`The connection ${lacking?.name ?? ""}`} wide>
      <div className="flex max-h-[70vh] min-h-0 flex-col">
        {system && lacking ? (
          <ConnectionDesk
            system={system}
            doc={{ ...begin(system.connection), readyferry: "connection/1", name: lacking.name } as Value}
            onDone={close}
          />
        ) : (
          <Choice systems={systems.data ?? []} onChoose={setKind} />
        )}
      </div>
    </Dialog>
  );
}
