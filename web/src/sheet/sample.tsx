import { useState } from "react";
import { toast } from "sonner";
import { call, enc, type Sample, type SampleRehearsal } from "../api/client";
import type { FlowDocument } from "../model/model";
import { guess } from "../steps/mapping/shape";
import { Code } from "../ui/code";
import { Dialog, Setting, says, Text, Trouble } from "../ui/parts";
import { MakeUp } from "./make-up";
import { StandInAnswers } from "./stand-in-answers";
import { TreeEditor } from "./tree-editor";

const lines = (m: Record<string, string>) =>
  Object.entries(m)
    .map(([k, v]) => `${k}: ${v}`)
    .join("\n");

function parseLines(text: string): Record<string, string> {
  return Object.fromEntries(
    text
      .split("\n")
      .filter((l) => l.includes(":"))
      .map((l): [string, string] => [l.slice(0, l.indexOf(":")).trim(), l.slice(l.indexOf(":") + 1).trim()]),
  );
}

/** Names and values, a pair on each line. */
function Lines(p: { label: string; hint?: string; rows: number; value: string; onChange: (v: string) => void }) {
  return (
    <Setting label={p.hint ? `${p.label}, ${p.hint}` : p.label}>
      <textarea
        aria-label={p.label}
        className="field data"
        rows={p.rows}
        value={p.value}
        onChange={(e) => p.onChange(e.target.value)}
      />
    </Setting>
  );
}

/** What a new sample of a format begins with. */
const beginnings: Record<string, [string, string]> = {
  xml: ["application/xml", "<message>\n  <id>1</id>\n</message>"],
  csv: ["text/csv", "id,name\n1,first\n"],
  hl7: ["application/hl7-v2", "MSH|^~\\&|SENDER|PLACE|||20260317094107||ADT^A01|1|P|2.5\rPID|1||1\r"],
  form: ["application/x-www-form-urlencoded", "id=1"],
  text: ["text/plain", "text"],
};

/** Makes or changes a sample: the message, what came with it, and what stand-ins answer. */
export function SampleDialog(p: {
  flow: string;
  doc: FlowDocument;
  sample: Sample | null;
  rehearsal: SampleRehearsal | undefined;
  names: string[];
  groups: string[];
  /** What a new sample holds, of a message that was pasted or dropped. */
  pasted?: string | undefined;
  /** Has the intake read another format. */
  onFormat: (format: string) => void;
  onClose: () => void;
}) {
  const format = p.doc.intake.format ?? "json";
  const fresh: Sample = {
    name: "",
    body: p.pasted ?? beginnings[format]?.[1] ?? '{\n  "id": 1\n}',
    headers: { "content-type": beginnings[format]?.[0] ?? "application/json" },
    query: {},
    at: new Date().toISOString(),
    params: Object.fromEntries([...(p.doc.intake.path ?? "").matchAll(/\{(\w+)\}/g)].map((m) => [m[1] ?? "", "x"])),
  };
  const [s, setS] = useState<Sample>(p.sample ?? fresh);
  const [headers, setHeaders] = useState(lines(s.headers));
  const [params, setParams] = useState(lines(s.params));
  const [query, setQuery] = useState(lines(s.query));
  const [replies, setReplies] = useState(JSON.stringify(s.replies ?? {}, null, 2));
  const [error, setError] = useState<unknown>();
  const [asTree, setAsTree] = useState(false);
  const address = (name: string) => `/api/v1/flows/${enc(p.flow)}/samples/${enc(name)}`;
  const save = async (expect: Sample["expect"] | null = s.expect) => {
    try {
      const value: Sample = {
        ...s,
        headers: parseLines(headers),
        params: parseLines(params),
        query: parseLines(query),
        replies: JSON.parse(replies),
        expect: expect ?? undefined,
      };
      await call(address(s.name), { method: "PUT", body: value });
      if (p.sample && p.sample.name !== s.name) await call(address(p.sample.name), { method: "DELETE" });
      p.onClose();
    } catch (e) {
      setError(e instanceof SyntaxError ? new Error(`The stand-in answers are no JSON: ${e.message}`) : e);
    }
  };
  const remove = async () => {
    const gone = p.sample;
    if (!gone) return;
    try {
      await call(address(gone.name), { method: "DELETE" });
      p.onClose();
      toast(`The sample ${gone.name} is gone`, {
        action: {
          label: "Undo",
          onClick: () => call(address(gone.name), { method: "PUT", body: gone }).catch((e) => toast.error(says(e))),
        },
      });
    } catch (e) {
      setError(e);
    }
  };
  const looksLike = guess(s.body);
  const isJSON = format === "json" || /json/.test(s.headers["content-type"] ?? "json");
  const r = p.rehearsal;
  const pin = () =>
    r &&
    save({
      state: r.state,
      answer: r.answer?.status ?? 0,
      outcomes: Object.fromEntries(r.trace.map((t) => [t.path, t.outcome])),
    });
  const taken = s.name !== p.sample?.name && p.names.includes(s.name);
  return (
    <Dialog open wide onClose={p.onClose} title={p.sample ? `Sample ${p.sample.name}` : "Add a sample"}>
      <div className="grid grid-cols-[3fr_2fr] gap-4">
        <div>
          <div className="flex gap-2">
            <Setting inline label="Name" error={taken ? "another sample has this name" : undefined}>
              <Text
                label="Name of the sample"
                value={s.name}
                onChange={(name) => setS({ ...s, name })}
                placeholder="two titles"
              />
            </Setting>
            <Setting inline label="Group">
              <Text
                label="Group of the sample"
                value={s.group ?? ""}
                onChange={(group) => setS({ ...s, group: group || undefined })}
                placeholder="none"
                list="groups-of-samples"
              />
              <datalist id="groups-of-samples">
                {p.groups.map((g) => (
                  <option key={g} value={g} />
                ))}
              </datalist>
            </Setting>
          </div>
          <Setting label="Message" hint="paste a real one; nothing leaves in a rehearsal">
            {isJSON && (
              <button type="button" className="btn-bare mb-1" aria-pressed={asTree} onClick={() => setAsTree(!asTree)}>
                {asTree ? "as its text" : "as a tree"}
              </button>
            )}
            <div className="h-64 overflow-auto border border-line bg-sheet">
              {asTree && isJSON ? (
                <TreeEditor text={s.body} onChange={(body) => setS({ ...s, body })} />
              ) : (
                <Code
                  label="Message"
                  language={isJSON ? "json" : "text"}
                  value={s.body}
                  onChange={(body) => setS({ ...s, body })}
                />
              )}
            </div>
          </Setting>
          <MakeUp
            flow={p.flow}
            doc={p.doc}
            onMade={(made) => {
              setS({ ...s, body: made.body, name: s.name || made.name });
              setHeaders(lines({ ...parseLines(headers), ...made.headers }));
            }}
            onError={setError}
          />
          {looksLike !== format && ["json", "xml", "csv", "hl7"].includes(format) && (
            <p className="mb-2 border-l-4 border-wait bg-data px-2 py-1">
              It looks like {looksLike.toUpperCase()}, and the intake reads {format.toUpperCase()}.{" "}
              <button
                type="button"
                className="btn-bare"
                onClick={() => {
                  p.onFormat(looksLike);
                  setHeaders(
                    lines({ ...parseLines(headers), "content-type": beginnings[looksLike]?.[0] ?? "application/json" }),
                  );
                }}
              >
                Read {looksLike.toUpperCase()}
              </button>
            </p>
          )}
        </div>
        <div>
          <Lines label="Headers" hint="one a line" rows={3} value={headers} onChange={setHeaders} />
          <Lines label="Parameters of the path" rows={1} value={params} onChange={setParams} />
          <Lines label="Query" rows={1} value={query} onChange={setQuery} />
          <StandInAnswers
            flow={p.flow}
            doc={p.doc}
            rehearsal={p.rehearsal}
            sample={{ ...s, headers: parseLines(headers), params: parseLines(params), query: parseLines(query) }}
            value={replies}
            onChange={setReplies}
          />
        </div>
      </div>
      {r && (
        <p className="mb-2 text-quiet">
          Present outcome: <b>{r.state}</b>
          {r.reason && `, ${r.reason}`}. Expected:{" "}
          {r.expected === "none"
            ? "nothing is pinned"
            : r.expected === "differs"
              ? `${s.expect?.state}, and this differs`
              : "this"}
          .
        </p>
      )}
      {error !== undefined && <Trouble error={error} />}
      <div className="mt-2 flex gap-2">
        <button type="button" className="btn btn-go" disabled={!s.name.trim() || taken} onClick={() => save()}>
          Keep
        </button>
        {r && (
          <button type="button" className="btn" onClick={pin}>
            Expect this
          </button>
        )}
        {s.expect && (
          <button type="button" className="btn" onClick={() => save(null)}>
            Expect nothing
          </button>
        )}
        <span className="flex-1" />
        {p.sample && (
          <button type="button" className="btn" onClick={remove}>
            Remove
          </button>
        )}
        <button type="button" className="btn" onClick={p.onClose}>
          Not now
        </button>
      </div>
    </Dialog>
  );
}
