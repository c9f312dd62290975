import { useMemo } from "react";
import { toast } from "sonner";
import { call, enc, type Sample, type Schemas } from "../api/client";
import { queryClient } from "../api/queries";
import type { FlowDocument, Row } from "../model/model";
import { says } from "../ui/parts";

type Unreached = Schemas["Followed"]["unreached"][number];

/** The rows that no sample comes to, and how one is made that does. */
export function useUnreached(
  flow: string,
  present: { doc: FlowDocument; text: string | null },
  unreached: Unreached[],
  samples: number,
) {
  const nowhere = useMemo(
    () => new Set(samples ? unreached.filter((u) => u.kind !== "outcome").map((u) => u.path) : []),
    [unreached, samples],
  );
  /** What is told of a row: that none comes to it, or which outcome none has. */
  const lacking = (row: Row) =>
    samples
      ? unreached
          .filter((u) => u.path === row.key)
          .map((u) => ({
            text:
              u.kind !== "outcome"
                ? "No sample comes here."
                : u.way === "turned away"
                  ? "No sample is turned away here."
                  : "No sample goes on here.",
            onMake: () => void makeThere(u),
          }))
      : [];
  const makeThere = async (place: Unreached) => {
    try {
      const { value } = await call<Sample>(`/api/v1/flows/${enc(flow)}/reach`, {
        body: { document: present.text ?? present.doc, kind: place.kind, path: place.path, way: place.way ?? "" },
      });
      await call(`/api/v1/flows/${enc(flow)}/samples/${enc(value.name)}`, { method: "PUT", body: value });
      await queryClient.invalidateQueries({ queryKey: ["flows", flow, "samples"] });
      toast.success(`The sample “${value.name}” does`);
    } catch (e) {
      toast.error(says(e));
    }
  };
  return { nowhere, lacking };
}
