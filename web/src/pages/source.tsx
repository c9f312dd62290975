import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { toast } from "sonner";
import { call, enc, get, type Schemas } from "../api/client";
import { queryClient } from "../api/queries";
import { says } from "../ui/parts";
import { number, span, Time, useNow } from "../ui/time";

type Source = Schemas["Source"];

/** How messages come in from a connection, by flow, and what a person can do about it. */
export function SourceDesk({ name }: { name: string }) {
  const now = useNow(2000);
  const sources = useQuery({
    queryKey: ["connections", name, "sources"],
    refetchInterval: 4000,
    queryFn: () => get<Source[]>(`/api/v1/connections/${enc(name)}/sources`),
  });
  if (!sources.data?.length) return null;
  const act = async (flow: string, what: "pause" | "resume" | "run") => {
    try {
      await call(`/api/v1/flows/${enc(flow)}/${what}`, { method: "POST" });
    } catch (e) {
      toast.error(says(e));
    }
    await queryClient.invalidateQueries({ queryKey: ["connections"] });
  };
  return (
    <section aria-label="What comes in" className="border-b border-line px-4 py-2" data-testid="sources">
      <b>What comes in</b>
      {sources.data.map((s) => (
        <div key={s.flow} className="mt-1.5">
          <div className="flex flex-wrap items-center gap-2">
            <Link className="font-bold underline" to={`/flows/${enc(s.flow)}`}>
              {s.flow}
            </Link>
            <button type="button" className="btn" onClick={() => void act(s.flow, s.held ? "resume" : "pause")}>
              {s.held ? "Let it take messages again" : "Hold"}
            </button>
            {s.nextAt && !s.held && (
              <button type="button" className="btn" onClick={() => void act(s.flow, "run")}>
                Skip this wait
              </button>
            )}
          </div>
          <p className="mt-0.5">
            {s.held && <b className="text-wait">held; </b>}
            {s.failing && (
              <b className="text-dead">
                has failed for {span(now - Date.parse(s.failing.since))}, {number(s.failing.times)}{" "}
                {s.failing.times === 1 ? "time" : "times"}: {s.failing.why};{" "}
              </b>
            )}
            {number(s.lastHour)} in the last hour, {number(s.received)} since the start
            {s.backlog !== null && `; ${number(s.backlog)} wait there`}
            {s.unfinished > 0 &&
              `; ${number(s.unfinished)} have not ended${s.oldest ? `, the oldest ${span(now - Date.parse(s.oldest))}` : ""}`}
            {s.nextAt && (
              <>
                ; asked next <Time at={s.nextAt} />
              </>
            )}
            {s.during && `, only in ${s.during}`}.
          </p>
        </div>
      ))}
    </section>
  );
}
