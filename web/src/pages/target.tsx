import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { toast } from "sonner";
import { call, enc, get, type Schemas } from "../api/client";
import { queryClient } from "../api/queries";
import { Dialog, Setting, says, Text } from "../ui/parts";
import { number, span, Time, useNow } from "../ui/time";
import { who } from "./letters";

type Target = Schemas["Target"];

/** How deliveries to a connection are going, who waits, and what a person can do about it. */
export function TargetDesk({ name }: { name: string }) {
  const now = useNow(1000);
  const target = useQuery({
    queryKey: ["connections", name, "target"],
    refetchInterval: 2000,
    queryFn: () => get<Target>(`/api/v1/targets/${enc(name)}`),
  });
  const waits = useQuery({
    queryKey: ["connections", name, "waits"],
    refetchInterval: 4000,
    enabled: (target.data?.waiting ?? 0) > 0,
    queryFn: () => get<Schemas["TargetWait"][]>(`/api/v1/targets/${enc(name)}/waits?limit=20`),
  });
  const [asking, setAsking] = useState<"hold" | "give-up" | null>(null);
  const [note, setNote] = useState("");
  const t = target.data;
  if (!t) return null;
  const act = async (what: "hold" | "release" | "skip-wait" | "give-up", body?: object) => {
    try {
      const { value } = await call<{ moved?: number } | undefined>(`/api/v1/targets/${enc(name)}/${what}`, {
        method: "POST",
        ...(body ? { body } : {}),
      });
      if (what === "give-up") toast(`${value?.moved ?? 0} are dead letters now`);
      if (what === "skip-wait") toast(`${value?.moved ?? 0} are tried now`);
      setAsking(null);
      setNote("");
    } catch (e) {
      toast.error(says(e));
    }
    await queryClient.invalidateQueries({ queryKey: ["connections"] });
  };
  const tries = t.good + t.bad;
  return (
    <section aria-label="Deliveries" className="border-b border-line px-4 py-2" data-testid="target">
      <div className="flex flex-wrap items-center gap-2">
        <b className="mr-2">Deliveries</b>
        {t.held?.calendar ? null : t.held ? (
          <button type="button" className="btn" onClick={() => void act("release")}>
            Let them go again
          </button>
        ) : (
          <button type="button" className="btn" onClick={() => setAsking("hold")}>
            Hold for maintenance…
          </button>
        )}
        {t.waiting > 0 && !t.held && (
          <button type="button" className="btn" onClick={() => void act("skip-wait")}>
            Skip this wait
          </button>
        )}
        {t.waiting > 0 && (
          <button type="button" className="btn" onClick={() => setAsking("give-up")}>
            To the dead letters…
          </button>
        )}
      </div>
      <p className="mt-1">
        {t.away && (
          <b className="text-wait">
            the runner {t.away.runner}, by which it is reached, is{" "}
            {t.away.since ? (
              <>
                away since <Time at={t.away.since} />
              </>
            ) : (
              "not there since the start"
            )}
            ; what waits goes out when it comes;{" "}
          </b>
        )}
        {t.held && (
          <b className="text-wait">
            {t.held.calendar && `held by the calendar ${t.held.calendar}`}
            {t.held.until && (
              <>
                {" "}
                until <Time at={t.held.until} />
              </>
            )}
            {t.held.since && (
              <>
                held since <Time at={t.held.since} />
              </>
            )}
            {t.held.by && ` by ${t.held.by}`}
            {t.held.note && `: ${t.held.note}`};{" "}
          </b>
        )}
        {tries > 0
          ? `${Math.round((100 * t.good) / tries)} % of ${number(tries)} tries of the last hour were delivered, half of them within ${span(t.p50)}, 95 % within ${span(t.p95)}, 99 % within ${span(t.p99)}`
          : "no try in the last hour"}
        {t.inFlight > 0 && `; ${t.inFlight} in flight`}
        {t.failures > 0 && `; ${t.failures} failed in a row`}
        {t.probeAt && (
          <b className="text-dead">
            ; the breaker is open, next probe in {span(Math.max(0, new Date(t.probeAt).getTime() - now))}
          </b>
        )}
        {t.waiting > 0 &&
          `; ${number(t.waiting)} wait${t.oldest ? `, the oldest ${span(now - new Date(t.oldest).getTime())}` : ""}`}
        .
      </p>
      {t.waiting > 0 && (
        <ul className="mt-1 max-h-32 overflow-auto" aria-label="Who waits">
          {waits.data?.map((w) => (
            <li key={w.n} className="flex gap-3">
              <Link className="data underline" to={`/transactions/${w.transaction}`}>
                {w.flow}
              </Link>
              <span className="text-quiet">
                since <Time at={w.since} />, {w.tries === 0 ? "not tried yet" : `${w.tries} tries`}
                {w.nextTryAt && !t.away && `, next in ${span(Math.max(0, new Date(w.nextTryAt).getTime() - now))}`}
                {w.why && `, ${w.why}`}
              </span>
            </li>
          ))}
        </ul>
      )}
      <Dialog
        open={asking !== null}
        onClose={() => setAsking(null)}
        title={asking === "hold" ? `Hold ${name} for maintenance` : `${number(t.waiting)} to the dead letters`}
      >
        <p className="mb-2">
          {asking === "hold"
            ? "Nothing goes to it until it is let go again; tries under way come to their end, and no try of a plan is used up."
            : "All that waits for it becomes a dead letter. There it can be repaired, and sent again later."}
        </p>
        <Setting label="Why">
          <Text label="Why" value={note} onChange={setNote} placeholder="for those who ask later" />
        </Setting>
        <button type="button" className="btn btn-go" onClick={() => asking && void act(asking, { by: who(), note })}>
          {asking === "hold" ? "Hold it" : "Give them up"}
        </button>
      </Dialog>
    </section>
  );
}
