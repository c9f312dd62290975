import { toast } from "sonner";
import { call, enc, type Schemas } from "../api/client";
import { queryClient } from "../api/queries";
import { says } from "../ui/parts";
import { Time } from "../ui/time";

/** Publishing as it stands where it needs a second person. */
export type Second = "not" | "ask" | "asked" | "confirm";

/** What a press on the button does, by the area's rule and by what was asked for already. */
export function secondOf(
  asked: Schemas["Asked"] | undefined,
  areas: string[] | undefined,
  area: string,
  me: string,
): Second {
  const needs = !!areas && (areas.includes("*") || (area !== "" && areas.includes(area)));
  if (asked?.same && asked.by === me) return "asked";
  if (asked?.same) return "confirm";
  return needs ? "ask" : "not";
}

/** Who has asked for what, and who has to speak now. */
export function SecondPerson(p: {
  name: string;
  asked?: Schemas["Asked"];
  second: Second;
  may: boolean;
  onBack: () => void;
}) {
  const back = async () => {
    try {
      await call(`/api/v1/flows/${enc(p.name)}/publish`, { method: "DELETE" });
      await queryClient.invalidateQueries({ queryKey: ["flows"] });
      toast.success("Nobody is asked any more");
      p.onBack();
    } catch (e) {
      toast.error(says(e));
    }
  };
  return (
    <div className="space-y-2 px-4 py-3" data-testid="second">
      {p.asked ? (
        <p>
          <b>{p.asked.by}</b> asked for it <Time at={p.asked.at} withDate />
          {p.asked.note && `: ${p.asked.note}`}
          {p.asked.share ? `; it is to take 1 message in ${p.asked.share} first` : ""}
          {p.asked.goesLiveAt && (
            <>
              ; it is to go live <Time at={p.asked.goesLiveAt} withDate />
            </>
          )}
        </p>
      ) : (
        <p>Publishing in this area needs two persons: one asks, and another publishes the same draft.</p>
      )}
      {p.asked && !p.asked.same && (
        <p className="text-dead">The draft has changed since; ask again for what it is now.</p>
      )}
      {p.second === "asked" && <p>Another person publishes it.</p>}
      {p.asked && p.may && (
        <button type="button" className="btn" onClick={back}>
          Take it back
        </button>
      )}
    </div>
  );
}
