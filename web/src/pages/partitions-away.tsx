import { useQuery } from "@tanstack/react-query";
import { get, type Schemas } from "../api/client";
import { useMay, useSession } from "../api/session";

/** Says which partitions of a fleet nobody works on now: lists show what they had done until then. */
export function PartitionsAway() {
  const fleet = useSession().data?.fleet ?? "";
  const may = useMay();
  const now = useQuery({
    queryKey: ["fleet"],
    enabled: fleet !== "" && may("see", true),
    refetchInterval: 5000, // members come and go without any event
    queryFn: () => get<Schemas["FleetNow"]>("/api/v1/fleet"),
  });
  const away = now.data?.partitions.filter((p) => p.leader === "").map((p) => p.number) ?? [];
  if (away.length === 0) return null;
  return (
    <p role="status" className="border-b border-line bg-change px-4 py-1" data-testid="partitions-away">
      Nobody works on {away.length === 1 ? `partition ${away[0]}` : `partitions ${away.join(", ")}`} of the fleet now:
      its messages wait, and lists show them as they were.
    </p>
  );
}
