import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useEffect, useState } from "react";
import { Link, useParams } from "react-router";
import { call, enc, get, type Schemas } from "../api/client";
import { useFlows } from "../api/queries";
import { Empty, PageHead, says, Trouble } from "../ui/parts";
import { number, span } from "../ui/time";

type Facts = Schemas["DrillFacts"];
type Result = Schemas["DrillResult"];
type Plan = Schemas["RetryPlan"];
type Limits = Schemas["Limits"];
const minute = 60_000;

/** What is played through, as it is typed; empty fields are as measured. */
const usual = {
  what: "outage" as "outage" | "slow" | "burst",
  long: "10",
  factor: "10",
  rate: "",
  service: "",
  fails: "",
  other: false,
  tries: "",
  first: "",
  cap: "",
  inFlight: "",
  perSecond: "",
  trip: "",
  probe: "",
};

/** Plays an outage, a slow target or a burst through for the deliveries of a flow, with another plan beside it. */
export default function DrillPage() {
  const { name = "" } = useParams();
  const flows = useFlows();
  const facts = useQuery({
    queryKey: ["flows", name, "drill-facts"],
    queryFn: () => get<Facts[]>(`/api/v1/flows/${enc(name)}/drill-facts`),
  });
  const [step, setStep] = useState("");
  const [typed, setTyped] = useState(usual);
  const set = (part: Partial<typeof usual>) => setTyped({ ...typed, ...part });
  const of = facts.data?.find((f) => f.step === step) ?? facts.data?.[0];
  const order = of ? orderOf(name, of, typed) : null;
  const key = JSON.stringify(order);
  const [out, setOut] = useState<Schemas["DrillOutcome"]>();
  const [wrong, setWrong] = useState("");
  const [busy, setBusy] = useState(false);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the order is compared as text
  useEffect(() => {
    if (!order) return;
    const stop = new AbortController();
    const t = setTimeout(() => {
      setBusy(true);
      call<Schemas["DrillOutcome"]>("/api/v1/drills", { body: order, signal: stop.signal })
        .then(
          ({ value }) => {
            setOut(value);
            setWrong("");
          },
          (e) => stop.signal.aborted || setWrong(says(e)),
        )
        .finally(() => stop.signal.aborted || setBusy(false));
    }, 250);
    return () => {
      clearTimeout(t);
      stop.abort();
    };
  }, [key]);
  if (facts.error) return <Trouble error={facts.error} />;
  const title = flows.data?.find((f) => f.name === name)?.title || name;
  return (
    <>
      <PageHead
        title={`Outage drill of ${title}`}
        facts="simulated with the engine's own retries, order, breaker and limits"
      >
        {busy && <span className="text-quiet">playing it through…</span>}
        <Link className="btn" to={`/flows/${enc(name)}`}>
          The sheet
        </Link>
      </PageHead>
      {facts.data?.length === 0 ? (
        <Empty title="Nothing was delivered yet">
          <p>A drill begins with what was measured: how many messages come, and how long their targets take.</p>
        </Empty>
      ) : (
        of && (
          <div className="grid min-h-0 flex-1 grid-cols-[300px_1fr]">
            <form
              aria-label="The drill"
              className="space-y-3 overflow-auto border-r-2 border-deep p-4"
              onSubmit={(e) => e.preventDefault()}
            >
              <Field label="Deliveries of">
                <select
                  aria-label="Deliveries of"
                  className="field"
                  value={of.step}
                  onChange={(e) => setStep(e.target.value)}
                >
                  {facts.data?.map((f) => (
                    <option key={f.step} value={f.step}>
                      {f.step} to {f.target}
                    </option>
                  ))}
                </select>
              </Field>
              <p className="text-quiet">
                Measured over {of.looked} deliveries: {number(Math.round(of.rate * 3600))} an hour, a try takes{" "}
                {span(of.mean)} (95 % within {span(of.p95)}), {number(of.size)} bytes
                {of.keys > 0 && `, in order by ${of.keys} values`}
                {of.backlog > 0 && `; ${number(of.backlog)} wait now`}.
              </p>
              <Field label="What happens">
                <select
                  aria-label="What happens"
                  className="field"
                  value={typed.what}
                  onChange={(e) => set({ what: e.target.value as typeof typed.what })}
                >
                  <option value="outage">the target answers nobody</option>
                  <option value="slow">the target is slow</option>
                  <option value="burst">more messages come</option>
                </select>
              </Field>
              <div className="grid grid-cols-2 gap-2">
                <Typed label="For so many minutes" value={typed.long} onChange={(long) => set({ long })} />
                {typed.what !== "outage" && (
                  <Typed
                    label={typed.what === "slow" ? "Times as slow" : "Times as many"}
                    value={typed.factor}
                    onChange={(factor) => set({ factor })}
                  />
                )}
                <Typed
                  label="Messages an hour"
                  value={typed.rate}
                  placeholder={number(Math.round(of.rate * 3600))}
                  onChange={(rate) => set({ rate })}
                />
                <Typed
                  label="A try takes, ms"
                  value={typed.service}
                  placeholder="as measured"
                  onChange={(service) => set({ service })}
                />
                <Typed
                  label="A failed one, ms"
                  value={typed.fails}
                  placeholder={String(Math.round(of.mean))}
                  onChange={(fails) => set({ fails })}
                />
              </div>
              <label className="flex items-center gap-1.5 font-bold">
                <input type="checkbox" checked={typed.other} onChange={(e) => set({ other: e.target.checked })} />{" "}
                another plan beside it
              </label>
              {typed.other && (
                <div className="grid grid-cols-2 gap-2">
                  <Typed
                    label="Tries"
                    value={typed.tries}
                    placeholder={String(of.plan.tries)}
                    onChange={(tries) => set({ tries })}
                  />
                  <Typed
                    label="First pause, s"
                    value={typed.first}
                    placeholder={String(of.plan.first / 1000)}
                    onChange={(first) => set({ first })}
                  />
                  <Typed
                    label="Longest pause, s"
                    value={typed.cap}
                    placeholder={String(of.plan.cap / 1000)}
                    onChange={(cap) => set({ cap })}
                  />
                  <Typed
                    label="At once"
                    value={typed.inFlight}
                    placeholder={String(of.limits.inFlight)}
                    onChange={(inFlight) => set({ inFlight })}
                  />
                  <Typed
                    label="A second at most"
                    value={typed.perSecond}
                    placeholder={of.limits.perSecond ? String(of.limits.perSecond) : "no limit"}
                    onChange={(perSecond) => set({ perSecond })}
                  />
                  <Typed
                    label="Breaker behind failures"
                    value={typed.trip}
                    placeholder={of.limits.trip ? String(of.limits.trip) : "none"}
                    onChange={(trip) => set({ trip })}
                  />
                  <Typed
                    label="Probe every, s"
                    value={typed.probe}
                    placeholder={String(of.limits.probe / 1000)}
                    onChange={(probe) => set({ probe })}
                  />
                </div>
              )}
            </form>
            <div className="min-h-0 overflow-auto p-4" data-testid="drill">
              {wrong && <p className="mb-3 border-l-4 border-dead bg-loss px-3 py-2">{wrong}</p>}
              {out && <Outcome first={out.result} second={out.other ?? null} />}
            </div>
          </div>
        )
      )}
    </>
  );
}

const n = (text: string) => (text.trim() === "" ? undefined : Number(text));

function orderOf(flow: string, of: Facts, t: typeof usual): Schemas["DrillOrder"] {
  const long = Math.max(0, n(t.long) ?? 0) * minute;
  const window = [{ from: minute, to: minute + Math.max(1, long), factor: n(t.factor) ?? 10 }];
  const rate = n(t.rate);
  const other = t.other ? { plan: planOf(of.plan, t), limits: limitsOf(of.limits, t) } : undefined;
  return {
    flow,
    step: of.step,
    for: minute + 3 * long + 10 * minute,
    seed: 1,
    ...(rate === undefined ? {} : { rate: rate / 3600 }),
    ...(n(t.service) === undefined ? {} : { service: n(t.service) as number }),
    ...(n(t.fails) === undefined ? {} : { fails: n(t.fails) as number }),
    ...(t.what === "outage" ? { outages: window } : t.what === "slow" ? { slow: window } : { bursts: window }),
    ...(other ? { other } : {}),
  };
}

const planOf = (p: Plan, t: typeof usual): Plan => {
  const first = n(t.first) === undefined ? p.first : Math.round((n(t.first) as number) * 1000);
  return {
    ...p,
    first,
    cap: Math.max(first, n(t.cap) === undefined ? p.cap : Math.round((n(t.cap) as number) * 1000)),
    tries: n(t.tries) ?? p.tries,
  };
};
const limitsOf = (l: Limits, t: typeof usual): Limits => ({
  inFlight: n(t.inFlight) ?? l.inFlight,
  perSecond: n(t.perSecond) ?? l.perSecond,
  trip: n(t.trip) ?? l.trip,
  probe: n(t.probe) === undefined ? l.probe : (n(t.probe) as number) * 1000,
});

const Field = (p: { label: string; children: ReactNode }) => (
  <div>
    <div className="text-[12.5px] text-quiet">{p.label}</div>
    {p.children}
  </div>
);

const Typed = (p: { label: string; value: string; placeholder?: string; onChange: (v: string) => void }) => (
  <Field label={p.label}>
    <input
      aria-label={p.label}
      className="field data"
      type="number"
      min="0"
      step="any"
      value={p.value}
      placeholder={p.placeholder}
      onChange={(e) => p.onChange(e.target.value)}
    />
  </Field>
);

function Outcome({ first, second }: { first: Result; second: Result | null }) {
  const rows: [string, (r: Result) => string][] = [
    ["Messages", (r) => number(r.messages)],
    ["At most under way or waiting", (r) => number(r.peakBacklog)],
    ["Oldest", (r) => span(r.oldestAge)],
    ["Tries a second at the target, at most", (r) => r.peakTries.toFixed(r.peakTries < 10 ? 1 : 0)],
    ["Tries in all", (r) => number(r.tries)],
    ["Dead letters", (r) => number(r.deadLetters)],
    ["Until nothing waits any more", (r) => (r.normalAt ? span(r.drainTime) : "never: more comes than it takes")],
    ["Mean wait", (r) => span(r.meanWait)],
    ["Longest wait of one that was delivered", (r) => span(r.longestWait)],
  ];
  const end = Math.max(first.endedAt, second?.endedAt ?? 0);
  return (
    <>
      <table className="grid-table mb-4 max-w-3xl">
        <thead>
          <tr>
            <th />
            <th>As it is</th>
            {second && <th>With the other plan</th>}
          </tr>
        </thead>
        <tbody>
          {rows.map(([what, of]) => (
            <tr key={what}>
              <td>{what}</td>
              <td className="tabular-nums">{of(first)}</td>
              {second && <td className="tabular-nums">{of(second)}</td>}
            </tr>
          ))}
        </tbody>
      </table>
      <Curve
        title="Under way or waiting"
        end={end}
        of={(p) => p.backlog}
        first={first}
        second={second}
        says={(v) => number(Math.round(v))}
      />
      <Curve
        title="Tries a second at the target"
        end={end}
        of={(p) => p.tries}
        first={first}
        second={second}
        says={(v) => v.toFixed(1)}
      />
      <Curve title="Age of the oldest" end={end} of={(p) => p.oldest} first={first} second={second} says={span} />
    </>
  );
}

type At = Result["curve"][number];

/** A curve over time, and that of the other plan beside it, dashed. */
function Curve(p: {
  title: string;
  end: number;
  of: (p: At) => number;
  first: Result;
  second: Result | null;
  says: (v: number) => string;
}) {
  const most = Math.max(1e-9, ...p.first.curve.map(p.of), ...(p.second?.curve.map(p.of) ?? []));
  const line = (r: Result) =>
    [
      "0,100",
      ...r.curve.map((c) => `${((c.at / p.end) * 1000).toFixed(1)},${(100 - (p.of(c) / most) * 96).toFixed(1)}`),
    ].join(" ");
  return (
    <figure className="mb-4 max-w-4xl">
      <figcaption className="mb-1 flex justify-between text-[12.5px] text-quiet">
        <b className="text-ink">{p.title}</b>
        <span>at most {p.says(most)}</span>
      </figcaption>
      <svg
        viewBox="0 0 1000 100"
        preserveAspectRatio="none"
        className="h-24 w-full border-b border-l border-line bg-sheet"
        role="img"
        aria-label={`${p.title}: at most ${p.says(most)}`}
      >
        <polyline
          points={line(p.first)}
          fill="none"
          stroke="var(--color-deep)"
          strokeWidth="1.6"
          vectorEffect="non-scaling-stroke"
        />
        {p.second && (
          <polyline
            points={line(p.second)}
            fill="none"
            stroke="var(--color-buoy)"
            strokeWidth="1.6"
            strokeDasharray="5 3"
            vectorEffect="non-scaling-stroke"
          />
        )}
      </svg>
      <div className="flex justify-between text-[12px] text-quiet">
        <span>0</span>
        <span>{span(p.end)}</span>
      </div>
    </figure>
  );
}
