import { useState } from "react";
import { call, enc, type Sample, type SampleRehearsal, type Schemas } from "../api/client";
import { type FlowDocument, rowsOf } from "../model/model";
import { viewOf } from "../steps";
import { Code } from "../ui/code";
import { Setting, Text, Trouble } from "../ui/parts";

type Reply = Schemas["Reply"];
const asked = ["ask", "deliver", "lookup", "subflow"];

/** What outside systems answer to a sample, step by step; what is said of no step is 200 without a body. */
export function StandInAnswers(p: {
  flow: string;
  doc: FlowDocument;
  sample: Sample;
  rehearsal: SampleRehearsal | undefined;
  value: string; // JSON
  onChange: (json: string) => void;
}) {
  const [written, setWritten] = useState(false);
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState("");
  let replies: Record<string, Reply> | null = null;
  try {
    replies = JSON.parse(p.value);
  } catch {
    // it is shown as it is written, with its error when it is kept
  }
  const steps = rowsOf(p.doc).flatMap((r) => (r.kind === "step" && asked.includes(r.step.kind) ? [r] : []));
  const set = (id: string, change: Partial<Reply> | null) => {
    const { [id]: old, ...rest } = replies ?? {};
    p.onChange(JSON.stringify(change ? { ...rest, [id]: { status: 200, ...old, ...change } } : rest, null, 2));
  };
  const tryIt = async (id: string, key: string) => {
    setError(undefined);
    setBusy(id);
    // Which of several parts does not matter: the first that comes there is asked for.
    const path = p.rehearsal?.trace.find((e) => e.path.replace(/\[\d+\]/g, "") === key)?.path ?? key;
    try {
      const { value } = await call<Reply>(`/api/v1/flows/${enc(p.flow)}/try`, {
        body: { document: p.doc, sample: { ...p.sample, replies: replies ?? {} }, path },
      });
      set(id, value);
    } catch (e) {
      setError(e);
    }
    setBusy("");
  };
  if (written || !replies)
    return (
      <Setting label="Stand-in answers by step" hint='such as {"lend": {"status": 503}}; others answer 200'>
        <div className="h-40 border border-line">
          <Code label="Stand-in answers by step" language="json" value={p.value} onChange={p.onChange} />
        </div>
        <button type="button" className="btn-bare" disabled={!replies} onClick={() => setWritten(false)}>
          step by step
        </button>
      </Setting>
    );
  return (
    <div>
      <span className="head mb-0.5 block">Stand-in answers by step</span>
      <ul className="max-h-48 overflow-auto" data-testid="stand-in-answers">
        {steps.map((r) => {
          const id = replies[r.key] ? r.key : r.step.id;
          const reply = replies[id];
          return (
            <li key={r.key} className="border-b border-line py-1">
              <div className="flex items-center gap-2">
                <span className="min-w-0 flex-1 truncate">
                  <b className="text-deep">{viewOf(r.step.kind).verb}</b> <span className="data">{r.step.id}</span>
                </span>
                {r.step.kind === "ask" && r.step.harmless === true && (
                  <button type="button" className="btn-bare" disabled={busy !== ""} onClick={() => tryIt(id, r.key)}>
                    {busy === id ? "asking…" : "try for real"}
                  </button>
                )}
                <span className="w-16">
                  <Text
                    mono
                    label={`Status that ${r.step.id} gets`}
                    value={reply ? String(reply.status) : ""}
                    placeholder="200"
                    onChange={(v) => {
                      if (v === "" && !reply?.body) set(id, null);
                      else if (/^\d{1,3}$/.test(v)) set(id, { status: Number(v) });
                    }}
                  />
                </span>
              </div>
              {(reply || r.step.kind !== "deliver") && (
                <textarea
                  aria-label={`Body that ${r.step.id} gets`}
                  className="field data mt-1"
                  rows={reply?.body ? 3 : 1}
                  spellCheck={false}
                  placeholder="no body"
                  value={reply?.body ?? ""}
                  onChange={(e) => set(id, { body: e.target.value })}
                />
              )}
            </li>
          );
        })}
        {steps.length === 0 && <li className="text-quiet">No step asks anybody or sends anything.</li>}
      </ul>
      <button type="button" className="btn-bare" onClick={() => setWritten(true)}>
        as JSON
      </button>
      {error !== undefined && <Trouble error={error} />}
    </div>
  );
}
