import { useState } from "react";
import { toast } from "sonner";
import { type Behaviour, call, enc, ProblemError, type StandInWhole } from "../api/client";
import { queryClient } from "../api/queries";
import { Document } from "../ui/document";
import { Mark } from "../ui/marks";
import { Dialog, Setting, says, Text } from "../ui/parts";
import { number, Time } from "../ui/time";
import { kinds, StandInForm } from "./stand-in-form";

import { places, SendFrom } from "./stand-in-send";

const sentence = (s: string) => s.charAt(0).toUpperCase() + s.slice(1);

const usual: Behaviour = { status: null, body: null, delay: 0, refuse: 0, refuseWith: 0, outUntil: null };

/** What a stand-in does now, in words. */
export function doing(b: Behaviour, now: number): string {
  if (b.outUntil && new Date(b.outUntil).getTime() > now)
    return `out for another ${Math.ceil((new Date(b.outUntil).getTime() - now) / 1000)} s`;
  if (b.refuse !== 0)
    return `refuses ${b.refuse < 0 ? "every call" : `${b.refuse} more`} with ${b.refuseWith === -1 ? "a broken connection" : b.refuseWith === -2 ? "silence" : b.refuseWith || 503}`;
  const parts = [b.status !== null && `answers ${b.status}`, b.delay > 0 && `after ${b.delay} ms`].filter(Boolean);
  return parts.length ? parts.join(" ") : "as defined";
}

/** The files of a stand-in that has some. */
function Files({ of }: { of: StandInWhole["inside"] }) {
  return (
    <div className="max-h-[45%] shrink-0 overflow-auto border-b border-line bg-sheet" data-testid="files">
      {of.map((f) => (
        <details key={f.name} className="border-b border-line" data-file={f.name}>
          <summary className="grid cursor-pointer grid-cols-[1fr_120px] gap-3 px-3 py-1.5">
            <b className="data truncate">{f.name}</b>
            <span className="text-right text-quiet">{number(f.bytes)} bytes</span>
          </summary>
          {f.text ? (
            <Document body={{ format: "text", text: f.text }} />
          ) : (
            <p className="px-6 py-1 text-quiet">{f.bytes > 0 ? "it is too long to be shown here" : "it is empty"}</p>
          )}
        </details>
      ))}
    </div>
  );
}

/** One stand-in: what it does next, what it has and what it received. */
export function OneStandIn({ s, now, onGone }: { s: StandInWhole; now: number; onGone: () => void }) {
  const [b, setB] = useState<Behaviour>(s.behaviour);
  const [changing, setChanging] = useState(false);
  const [removing, setRemoving] = useState<{ why: string; sure: boolean } | null>(null);
  const remove = async (sure: boolean) => {
    try {
      await call(`/api/v1/stand-ins/${enc(s.name)}${sure ? "?sure=true" : ""}`, { method: "DELETE" });
      setRemoving(null);
      onGone();
      await queryClient.invalidateQueries({ queryKey: ["stand-ins"] });
    } catch (e) {
      if (e instanceof ProblemError && e.status === 409) setRemoving({ why: e.detail, sure: true });
      else toast.error(says(e));
    }
  };
  const behave = async (next: Behaviour) => {
    try {
      await call(`/api/v1/stand-ins/${enc(s.name)}/behaviour`, { method: "PUT", body: next });
      setB(next);
      await queryClient.invalidateQueries({ queryKey: ["stand-ins"] });
    } catch (e) {
      toast.error(says(e));
    }
  };
  const field = (
    name: "status" | "delay" | "refuse" | "refuseWith",
    label: string,
    hint: string,
    placeholder: string,
  ) => (
    <Setting inline label={label} hint={hint}>
      <Text
        label={label}
        mono
        type="number"
        placeholder={placeholder}
        value={b[name] === null || (b[name] === 0 && name !== "status") ? "" : String(b[name])}
        onChange={(v) => setB({ ...b, [name]: v === "" ? (name === "status" ? null : 0) : Number(v) })}
      />
    </Setting>
  );
  return (
    <div className="flex min-h-0 min-w-0 flex-col">
      <section aria-label="What it does next" className="shrink-0 border-b border-line p-4">
        <div className="flex items-center gap-4">
          <h2 className="text-[16px]">{s.title}</h2>
          <span className="flex-1" />
          <button type="button" className="btn-bare" onClick={() => setChanging(true)}>
            change
          </button>
          <button
            type="button"
            className="btn-bare"
            onClick={() => setRemoving({ why: `${s.title} and what it received will be gone.`, sure: false })}
          >
            remove
          </button>
        </div>
        <p className="mb-2 text-quiet">
          {s.note}{" "}
          {s.kind ? (
            sentence(kinds[s.kind as keyof typeof kinds]?.title ?? s.kind)
          ) : (
            <>
              It answers at <span className="data">/stand-ins/{s.name}/…</span>
            </>
          )}
          ; connections reach it as <span className="data">stand-in://{s.name}</span>.{" "}
          {s.kind !== "files" && (
            <>
              Now: <b data-testid="doing">{doing(s.behaviour, now)}</b>
            </>
          )}
        </p>
        {s.kind !== "files" && (
          <>
            <div className="mb-3 flex flex-wrap gap-2">
              <button type="button" className="btn" onClick={() => behave({ ...usual, refuse: -1 })}>
                Refuse every call
              </button>
              <button type="button" className="btn" onClick={() => behave({ ...usual, refuse: 3 })}>
                Refuse three times
              </button>
              <button
                type="button"
                className="btn"
                onClick={() => behave({ ...usual, outUntil: new Date(Date.now() + 120_000).toISOString() })}
              >
                Out for two minutes
              </button>
              <button type="button" className="btn" onClick={() => behave({ ...usual, refuse: -1, refuseWith: -2 })}>
                Never answers
              </button>
              <button type="button" className="btn" onClick={() => behave({ ...usual, delay: 3000 })}>
                Three seconds late
              </button>
              <button type="button" className="btn btn-go" onClick={() => behave(usual)}>
                As defined
              </button>
            </div>
            <details>
              <summary className="head cursor-pointer">Set it exactly</summary>
              <form
                className="mt-2 flex items-end gap-2"
                onSubmit={(e) => {
                  e.preventDefault();
                  behave(b);
                }}
              >
                {field("status", "Answers", "status", String(s.status))}
                {field("delay", "After", "milliseconds", String(s.delay ?? 0))}
                {field("refuse", "Refuses", "calls, −1: all", "0")}
                {field("refuseWith", "With", "status, −1: breaks off, −2: silence", "503")}
                <Setting inline label="Body" hint="${n}: number of the call">
                  <Text
                    label="Body"
                    mono
                    value={b.body ?? ""}
                    placeholder={s.body}
                    onChange={(v) => setB({ ...b, body: v === "" ? null : v })}
                  />
                </Setting>
                <button type="submit" className="btn mb-7">
                  Set
                </button>
              </form>
            </details>
          </>
        )}
      </section>
      {s.kind && <SendFrom name={s.name} kind={s.kind} />}
      {s.inside.length > 0 && places[s.kind ?? ""]?.file && <Files of={s.inside} />}
      {s.inside.length > 0 && !places[s.kind ?? ""]?.file && (
        <p className="flex shrink-0 flex-wrap gap-x-5 gap-y-1 border-b border-line px-4 py-1.5" data-testid="inside">
          {s.inside.map((q) => (
            <span key={q.name}>
              <b className="data">{q.name}</b>{" "}
              <span className="text-quiet">
                {number(q.messages)} {s.kind === "stream" || s.kind === "nats" ? "kept" : "wait"}
                {q.consumers > 0 && `, ${q.consumers} take`}
              </span>
            </span>
          ))}
        </p>
      )}
      {changing && <StandInForm of={s} onClose={() => setChanging(false)} onDone={() => setChanging(false)} />}
      <Dialog open={removing !== null} onClose={() => setRemoving(null)} title={`Remove ${s.title}`}>
        <p className="mb-3">{removing?.why}</p>
        <button type="button" className="btn btn-go" onClick={() => remove(!!removing?.sure)}>
          {removing?.sure ? "Remove it all the same" : "Remove it"}
        </button>
      </Dialog>
      {s.kind !== "files" && (
        <>
          <div className="pane-head">
            <h2>Received</h2>
            <span className="flex-1 text-quiet">
              {number(s.received)} calls, {number(s.accepted)} accepted among the last {number(s.calls.length)}
            </span>
            <button
              type="button"
              className="btn-bare"
              onClick={() =>
                call(`/api/v1/stand-ins/${enc(s.name)}/calls`, { method: "DELETE" }).then(
                  () => queryClient.invalidateQueries({ queryKey: ["stand-ins"] }),
                  (e) => toast.error(says(e)),
                )
              }
            >
              forget them
            </button>
          </div>
          <div className="min-h-0 flex-1 overflow-auto bg-sheet" data-testid="calls">
            {s.calls.length === 0 && <p className="p-3 text-quiet">Nothing yet.</p>}
            {s.calls.slice(0, 200).map((c) => (
              <details
                key={c.n}
                className="border-b border-line"
                data-key={c.key}
                data-status={c.status}
                data-copy={c.copy}
              >
                <summary className="grid cursor-pointer grid-cols-[50px_70px_minmax(150px,1fr)_170px_290px] items-center gap-3 px-3 py-1.5">
                  <span className="text-quiet">{c.n}</span>
                  <Time at={c.at} />
                  <span className="data truncate">
                    <b>{c.method}</b> {c.path}
                  </span>
                  <span className="flex items-center gap-1.5">
                    <Mark state={c.copy > 0 ? "delivered" : "turned away"} />
                    {c.gaveUp ? "the caller gave up" : c.status || "broke off"}
                    {c.copy > 1 && <b className="text-dead">copy {c.copy}</b>}
                  </span>
                  <span className="data truncate text-quiet" title="Idempotency-Key">
                    {c.key}
                  </span>
                </summary>
                <dl className="data grid grid-cols-[auto_1fr] gap-x-3 px-6 pt-1 text-quiet">
                  {Object.entries(c.headers).map(([k, v]) => (
                    <div key={k} className="contents">
                      <dt>{k}</dt>
                      <dd className="break-all">{v}</dd>
                    </div>
                  ))}
                </dl>
                <Document body={{ format: "json", text: c.body }} />
              </details>
            ))}
          </div>
        </>
      )}
    </div>
  );
}
