import { useState } from "react";
import { queryClient } from "../api/queries";
import type { Lacking } from "../sheet/lacking";
import { useSystems } from "../systems";
import { begin, type Value } from "../systems/schema";
import { Dialog } from "../ui/parts";
import { ConnectionDesk } from "./connection-desk";
import { Choice } from "./connections";
import { NewTable } from "./new-table";

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
