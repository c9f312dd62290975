import { useQuery } from "@tanstack/react-query";
import { toast } from "sonner";
import { call, enc, type Flow, get, type Schemas } from "../api/client";
import { queryClient } from "../api/queries";
import { Mark } from "../ui/marks";
import { says } from "../ui/parts";
import { local, number } from "../ui/time";

type Shared = { version: number; counts: Record<string, number> };

/** A version that takes a share of messages, beside the live one, or waits for its time. */
export function Trial({ flow, onChange }: { flow: Flow; onChange: () => void }) {
  const { trial, planned } = flow;
  const shared = useQuery({
    queryKey: ["shared-out", flow.name],
    enabled: trial !== null,
    refetchInterval: 3000, // thousands are counted, so not with every message that comes
    queryFn: () => get<Shared[]>(`/api/v1/flows/${enc(flow.name)}/shared-out`),
  });
  const ask = async (path: string, body: Schemas["Flow"] | Record<string, unknown> | undefined, said: string) => {
    try {
      await call(`/api/v1/flows/${enc(flow.name)}/${path}`, { method: "POST", body });
      await queryClient.invalidateQueries({ queryKey: ["flows"] });
      toast.success(said);
      onChange();
    } catch (e) {
      toast.error(says(e));
    }
  };
  const by = localStorage.getItem("who") ?? "";
  const revoke = (said: string) => ask(`revoke?by=${enc(by)}`, undefined, said);
  if (!trial && !planned) return null;
  return (
    <div
      role="status"
      className="flex shrink-0 flex-wrap items-center gap-x-5 gap-y-1 border-b border-line bg-mark px-4 py-1.5"
      data-testid="trial"
    >
      {trial && (
        <>
          <b>{`Version ${trial.version} takes 1 message in ${trial.of}`}</b>
          {(shared.data ?? []).map((s) => (
            <span key={s.version} className="inline-flex items-center gap-2">
              {`version ${s.version}:`}
              {Object.keys(s.counts).length === 0 && <span className="text-quiet">nothing yet</span>}
              {Object.entries(s.counts).map(([state, n]) => (
                <span
                  key={state}
                  className={`inline-flex items-center gap-1 ${state === "dead letter" ? "text-dead" : ""}`}
                >
                  <Mark state={state} size={9} /> {`${number(n)} ${state}`}
                </span>
              ))}
            </span>
          ))}
          <span className="ml-auto flex gap-2">
            <button
              type="button"
              className="btn"
              onClick={() => revoke(`All messages go through version ${flow.live} again`)}
            >
              {`Back to version ${flow.live}`}
            </button>
            <button
              type="button"
              className="btn btn-go"
              onClick={() => ask("live", { version: trial.version, by }, `Version ${trial.version} takes all messages`)}
            >
              For all messages
            </button>
          </span>
        </>
      )}
      {planned && (
        <>
          <b>{`Version ${planned.version} goes live ${local(planned.at)}`}</b>
          <span className="ml-auto flex gap-2">
            <button type="button" className="btn" onClick={() => revoke(`Version ${planned.version} was called off`)}>
              Call it off
            </button>
            <button
              type="button"
              className="btn"
              onClick={() => ask("live", { version: planned.version, by }, `Version ${planned.version} is live`)}
            >
              Now
            </button>
          </span>
        </>
      )}
    </div>
  );
}
