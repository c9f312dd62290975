import { useQuery } from "@tanstack/react-query";
import { toast } from "sonner";
import { call, enc, get, type Schemas } from "../api/client";
import { queryClient } from "../api/queries";
import type { Intake } from "../model/model";
import { useUsualIntake } from "../systems";
import { Select, Setting, says, Text } from "../ui/parts";
import { local, number, ownZone, Time } from "../ui/time";

type Props = {
  intake: Intake;
  put: (part: Partial<Intake>, mark: string) => void;
  error: (setting: string) => string | undefined;
};

const text = (v: unknown) => (v === undefined || v === null ? "" : String(v));

/** When a schedule or poll is due, with its next times. */
export function TimingForm({ intake, put, error }: Props) {
  const cron = intake.every === undefined;
  const usual = useUsualIntake(intake.kind);
  const zone = text(intake.zone);
  const query = cron ? `cron=${enc(text(intake.cron))}&zone=${enc(zone)}` : `every=${enc(text(intake.every))}`;
  const times = useQuery({
    queryKey: ["times", query],
    enabled: text(cron ? intake.cron : intake.every) !== "",
    retry: false,
    queryFn: () => get<string[]>(`/api/v1/times?${query}&limit=4`),
  });
  return (
    <div>
      <div className="flex gap-2">
        <Setting inline label="Due">
          <Select
            label="Due"
            value={cron ? "cron" : "every"}
            onChange={(v) =>
              put(
                v === "cron"
                  ? { every: undefined, cron: "30 8 * * 1-5" }
                  : { cron: undefined, zone: undefined, every: "15m" },
                "due",
              )
            }
            options={[
              ["cron", "at times, by cron"],
              ["every", "every so often"],
            ]}
          />
        </Setting>
        {cron ? (
          <>
            <Setting inline label="Cron" hint="minute hour day month weekday" error={error("cron")}>
              <Text mono label="Cron" value={text(intake.cron)} onChange={(v) => put({ cron: v }, "cron")} />
            </Setting>
            <Setting inline label="Time zone" error={error("zone")}>
              <Text
                mono
                label="Time zone"
                placeholder={usual("zone")}
                value={zone}
                onChange={(v) => put({ zone: v }, "zone")}
              />
            </Setting>
          </>
        ) : (
          <Setting inline label="Every" error={error("every")}>
            <Text mono label="Every" value={text(intake.every)} onChange={(v) => put({ every: v }, "every")} />
          </Setting>
        )}
        {intake.kind === "schedule" && (
          <Setting inline label="Times that passed unseen">
            <Select
              label="Times that passed unseen"
              value={text(intake.missed) || usual("missed")}
              onChange={(v) => put({ missed: v === usual("missed") ? undefined : v }, "missed")}
              options={[
                ["once", "one message for all"],
                ["each", "one message for each"],
                ["skip", "no message"],
              ]}
            />
          </Setting>
        )}
      </div>
      {times.data && times.data.length > 0 && (
        <p className="data mb-2.5 text-quiet" data-testid="times">
          next, in your time ({ownZone()}):{" "}
          {times.data.map((t, i) => (
            <span key={t} title={t}>
              {i > 0 && "; "}
              <time dateTime={t}>{local(t)}</time>
            </span>
          ))}
        </p>
      )}
      {times.data?.length === 0 && <p className="mb-2.5 text-wait">It is never due.</p>}
    </div>
  );
}

/** What the last answer brought, of all that has come. */
function Brought({ clock: c }: { clock: Schemas["Clock"] }) {
  if (c.brought === 0) return <>{number(c.taken)} messages so far</>;
  return (
    <>
      the last {number(c.brought)} of {number(c.taken + c.waiting)} messages came with the last answer that held any
      {c.waiting > 0 && `, and ${number(c.waiting)} of them are yet to begin`}
    </>
  );
}

/** How far the clock of a live flow has come. */
export function ClockState({ flow }: { flow: string }) {
  const clock = useQuery({
    queryKey: ["flows", flow, "clock"],
    queryFn: () => get<Schemas["Clock"] | null>(`/api/v1/flows/${enc(flow)}/clock`),
  });
  const c = clock.data;
  if (!c) return <p className="mb-3 text-quiet">It is due once the flow is published.</p>;
  const again = () => queryClient.invalidateQueries({ queryKey: ["flows", flow, "clock"] });
  const run = async () => {
    try {
      await call(`/api/v1/flows/${enc(flow)}/run`, { method: "POST" });
      setTimeout(again, 500);
    } catch (e) {
      toast.error(says(e));
    }
  };
  const reset = async () => {
    try {
      await call(`/api/v1/flows/${enc(flow)}/mark`, { method: "PUT", body: { mark: null } });
      await again();
      toast.success("The next poll begins anew");
    } catch (e) {
      toast.error(says(e));
    }
  };
  return (
    <div className="mb-3 border-l-4 border-line pl-3" data-testid="clock">
      <p>
        Due next{" "}
        {c.nextAt ? (
          <time dateTime={c.nextAt} title={c.nextAt}>
            {local(c.nextAt)}
          </time>
        ) : (
          "never"
        )}
        {c.lastAt && (
          <>
            , last <Time at={c.lastAt} withDate />
          </>
        )}
        ; <Brought clock={c} />{" "}
        <button type="button" className="btn-bare ml-2" onClick={run}>
          run it now
        </button>
      </p>
      {c.mark !== null && (
        <p>
          mark <span className="chip">{text(c.mark)}</span>{" "}
          <button type="button" className="btn-bare ml-2" onClick={reset}>
            begin anew
          </button>
        </p>
      )}
      {c.error && (
        <p role="alert" className="text-dead">
          {c.failsSince ? (
            <>
              It has failed since <Time at={c.failsSince} withDate />
            </>
          ) : (
            "It failed the last time"
          )}
          {c.fails > 1 && `, ${c.fails} times in a row`}: {c.error}. The next time tries again; nothing is lost.
        </p>
      )}
    </div>
  );
}
