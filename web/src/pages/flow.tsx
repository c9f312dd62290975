import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { toast } from "sonner";
import { type Checked, call, type Draft, enc, type Flow, ProblemError, type Sample } from "../api/client";
import {
  queryClient,
  useConnections,
  useFlows,
  useQueues,
  useReference,
  useSamples,
  useTables,
  useTopics,
} from "../api/queries";
import { duplicate, insertStep, move, removeAt, rowAt, update, useHistory } from "../model/edit";
import { type FlowDocument, freshID, type Row, rowsOf, type Step } from "../model/model";
import { useClipboard } from "../sheet/clipboard";
import { Desk } from "../sheet/desk";
import { AddStep, AllTheSame, type LeftBehind, SampleDialog } from "../sheet/dialogs";
import { FilesDialog } from "../sheet/files";
import { IntakeSentence, intakeWhere } from "../sheet/intake";
import { type Column, type Focus, type Key, Sheet } from "../sheet/sheet";
import { Together, useOthers } from "../sheet/together";
import { Trial } from "../sheet/trial";
import { Versions } from "../sheet/versions";
import { shapes, YAML } from "../sheet/yaml";
import { viewOf } from "../steps";
import { typing } from "../ui/keys";
import { Mark } from "../ui/marks";
import { PageHead, says, Trouble } from "../ui/parts";
import { useFollowed, useSaved, type Version } from "./draft";
import { LoadsDialog } from "./loads";

export default function FlowPage() {
  const { name = "" } = useParams();
  const [draft, setDraft] = useState<{ value: Draft; etag: string | null }>();
  const [error, setError] = useState<unknown>();
  useEffect(() => {
    setDraft(undefined);
    setError(undefined);
    call<Draft>(`/api/v1/flows/${enc(name)}`).then(({ value, etag }) => setDraft({ value, etag }), setError);
  }, [name]);
  if (error) return <Trouble error={error} />;
  if (!draft) return <p className="p-6 text-quiet">Loading…</p>;
  return <FlowSheet key={name} name={name} first={draft.value} etag={draft.etag} />;
}

function FlowSheet({ name, first, etag }: { name: string; first: Draft; etag: string | null }) {
  const { present, change, undo, redo, canUndo, canRedo } = useHistory<Version>(
    name,
    { doc: first.document as unknown as FlowDocument, text: first.text },
    (v) => v.doc,
  );
  const doc = present.doc;
  const samples = useSamples(name);
  const connections = useConnections();
  const queues = useQueues();
  const topics = useTopics();
  const tables = useTables();
  const reference = useReference();
  const draft = useSaved(name, first, etag, present);
  const { flow, setFlow, notSaved, filesKey, save, writeFile, edited } = draft;
  const others = useOthers(name);
  const [focus, setFocus] = useState<Focus>({ row: 0, column: 0 });
  const [asYAML, setAsYAML] = useState(false);
  const [adding, setAdding] = useState(false);
  const [history, setHistory] = useState(false);
  const [loading, setLoading] = useState(false);
  const [files, setFiles] = useState(false);
  const [sample, setSample] = useState<Sample | "new" | null>(null);
  const [left, setLeft] = useState<LeftBehind | null>(null);
  const sheet = useRef<HTMLDivElement>(null);
  const go = useNavigate();
  const rows = useMemo(() => rowsOf(doc), [doc]);
  useEffect(() => {
    import("../ui/editor"); // so that it is there when the first setting is opened
  }, []);
  const row: Row | undefined = rows[Math.min(focus.row, rows.length - 1)];

  const list = samples.data ?? [];
  const current = list[Math.min(focus.column, list.length - 1)];
  const { findings, setFindings, text, columns, whole } = useFollowed(
    name,
    first,
    present,
    filesKey,
    samples.data,
    sample && sample !== "new" ? sample.name : current?.name,
  );

  const put = (next: FlowDocument, mark = "") => change({ doc: next, text: null }, mark);
  const goTo = (next: FlowDocument, place: (string | number)[]) =>
    setFocus((f) => ({ ...f, row: Math.max(0, rowAt(next, place)) }));
  const add = (kind: string) => {
    if (!row) return;
    const step: Step = { id: freshID(doc, kind), kind, ...viewOf(kind).begin(doc) };
    const r = insertStep(doc, row.place, step);
    put(r.doc);
    goTo(r.doc, r.place);
    setAdding(false);
  };
  const remove = () => {
    if (!row || row.kind === "intake" || (row.kind === "way" && row.split)) return;
    const fixed = row.kind === "way" && row.fixed; // with its map around it
    put(removeAt(doc, fixed ? row.place.slice(0, -1) : row.place));
    toast(row.kind === "way" ? `The way ${row.way.name} is gone` : `The step ${row.step.id} is gone`, {
      action: { label: "Undo", onClick: undo },
    });
  };
  const onKey = (e: Key) => {
    if (!row) return;
    if (e.altKey && (e.key === "ArrowUp" || e.key === "ArrowDown")) {
      e.preventDefault();
      const r = move(doc, row.place, e.key === "ArrowUp" ? -1 : 1);
      if (r) {
        put(r.doc);
        goTo(r.doc, r.place);
      }
      return;
    }
    if (e.ctrlKey || e.metaKey || e.altKey) return;
    if (e.key === "a") {
      e.preventDefault();
      setAdding(true);
    } else if (e.key === "d") {
      const r = row.kind === "intake" ? null : duplicate(doc, row.place);
      if (r) {
        put(r.doc);
        goTo(r.doc, r.place);
      }
    } else if (e.key === "x" && row.kind === "step") {
      put(update(doc, row.place, (s: Step) => (s.off ? (({ off: _, ...rest }) => rest)(s) : { ...s, off: true })));
    } else if (e.key === "s" && current) {
      e.preventDefault();
      setSample(current);
    } else if (e.key === "Delete") remove();
  };
  useEffect(() => {
    const onUndo = (e: KeyboardEvent) => {
      if (!(e.ctrlKey || e.metaKey)) return;
      const yaml = (e.target as HTMLElement | null)?.closest("[data-own-undo]");
      const key = e.key.toLowerCase();
      if (yaml || (key !== "z" && key !== "y")) return;
      e.preventDefault();
      if (key === "y" || e.shiftKey) redo();
      else undo();
    };
    window.addEventListener("keydown", onUndo, true);
    return () => window.removeEventListener("keydown", onUndo, true);
  }, [undo, redo]);
  useEffect(() => {
    const onKeys = (e: KeyboardEvent) => {
      if (e.key === "Escape" && !e.defaultPrevented && typing(e) && !(e.target as HTMLElement).closest("[role=dialog]"))
        sheet.current?.querySelector<HTMLElement>("[role=grid]")?.focus();
    };
    window.addEventListener("keydown", onKeys);
    return () => window.removeEventListener("keydown", onKeys);
  }, []);

  useClipboard(row, doc, put, goTo, remove);
  // Asks again where the server names what would be left behind.
  const unlessLeft = (what: string, go: (query: string) => Promise<void>) =>
    go("").catch((e) => {
      if (e instanceof ProblemError && e.status === 409)
        setLeft({ what, why: e.detail, go: () => go("?sure=true").catch((again) => toast.error(says(again))) });
      else toast.error(says(e));
    });
  // A version may go live by itself, or by somebody else.
  const listed = useFlows().data?.find((f) => f.name === name);
  const state = (f?: Flow) => f && JSON.stringify([f.live, f.trial, f.planned]);
  const now = state(listed);
  // biome-ignore lint/correctness/useExhaustiveDependencies: only what is listed anew counts
  useEffect(() => {
    if (now && now !== state(flow)) void reread();
  }, [now]);
  // What is live has changed; the draft on the sheet stays.
  const reread = async () => {
    const now = (await call<Draft>(`/api/v1/flows/${enc(name)}`)).value;
    setFlow({ ...flow, live: now.live, edits: now.edits, trial: now.trial, planned: now.planned });
  };
  const publish = async () => {
    if (await save(present)) go(`/flows/${enc(name)}/publish`);
  };
  const pause = () =>
    unlessLeft("Pause it", async (query) => {
      await call(`/api/v1/flows/${enc(name)}/${flow.paused ? "resume" : `pause${query}`}`, { method: "POST" });
      setFlow({ ...flow, paused: !flow.paused });
    });
  const bySample = new Map(columns.map((c) => [c.sample, c]));
  const heads: Column[] = list.map((s) => {
    const r = bySample.get(s.name);
    return {
      key: s.name,
      rehearsal: r,
      title: (
        <button
          type="button"
          tabIndex={s === current ? 0 : -1}
          className="flex max-w-full items-center gap-1.5 hover:underline"
          onClick={() => setSample(s)}
          title={[`${s.name}: change this sample`, ...(r?.breaks ?? [])].join("\n")}
        >
          {r && r.expected !== "none" && (
            <span className={r.expected === "differs" ? "text-dead" : "text-done"}>
              {r.expected === "differs" ? "≠" : "="}
            </span>
          )}
          <span className="truncate">{s.name}</span>
        </button>
      ),
      sub: r ? (
        <span className="inline-flex items-center gap-1">
          <Mark state={r.state} size={9} /> {r.state}
        </span>
      ) : (
        "…"
      ),
    };
  });
  const differs = columns.filter((r) => r.expected === "differs").length;
  const expected = columns.filter((r) => r.expected !== "none").length;
  const errors = findings.filter((f) => f.level === "error").length;
  const edits = flow.edits + (edited ? 1 : 0);
  const status = flow.live
    ? `${edits ? `draft, ${edits} ${edits === 1 ? "edit" : "edits"} since version ${flow.live}` : `live: version ${flow.live}`}${flow.paused ? ", paused" : ""}`
    : "draft, never published; messages that come in are kept as samples";
  return (
    <>
      <PageHead
        title={doc?.title || name}
        facts={
          <span data-testid="flow-status">
            {status}
            {others.length > 0 && <span data-testid="others"> · also here: {others.join(", ")}</span>}
            {notSaved !== undefined && <b className="text-dead"> · not saved: {says(notSaved)}</b>}
          </span>
        }
      >
        <span className="text-quiet">
          {differs ? (
            <b className="text-dead">{differs} not as expected</b>
          ) : (
            expected > 0 && `All ${expected} as expected`
          )}
          {errors > 0 && (
            <b className="ml-2 text-dead">
              {errors} {errors === 1 ? "error" : "errors"}
            </b>
          )}
        </span>
        <button
          type="button"
          className="btn"
          aria-label="Undo"
          title="Undo (Ctrl Z)"
          disabled={!canUndo}
          onClick={undo}
        >
          ↶
        </button>
        <button
          type="button"
          className="btn"
          aria-label="Redo"
          title="Redo (Ctrl Y)"
          disabled={!canRedo}
          onClick={redo}
        >
          ↷
        </button>
        <button type="button" className="btn" aria-pressed={asYAML} onClick={() => setAsYAML(!asYAML)}>
          {asYAML ? "As a sheet" : "As YAML"}
        </button>
        <button type="button" className="btn" onClick={() => setHistory(true)}>
          Versions
        </button>
        <button type="button" className="btn" onClick={() => setFiles(true)}>
          Files
        </button>
        {flow.live > 0 && doc?.intake.kind === "load" && (
          <button type="button" className="btn" onClick={() => setLoading(true)}>
            Load in bulk
          </button>
        )}
        <button type="button" className="btn" onClick={() => go(`/transactions?flow=${name}`)}>
          Transactions
        </button>
        {flow.live > 0 && (
          <button type="button" className="btn" onClick={pause}>
            {flow.paused ? "Resume" : "Pause"}
          </button>
        )}
        <button type="button" className="btn btn-go" onClick={publish}>
          Publish {flow.live ? "a new version" : "version 1"}
        </button>
      </PageHead>
      <Trial flow={flow} onChange={() => void reread()} />
      {asYAML || !doc ? (
        <YAML
          text={text}
          findings={findings}
          onText={async (t) => {
            const { value } = await call<Checked>(`/api/v1/flows/${enc(name)}/check`, { text: t, method: "POST" });
            setFindings(value.findings);
            const shape = value.findings.some((f) => f.level === "error" && shapes.includes(f.code));
            if (value.document && !shape) change({ doc: value.document as unknown as FlowDocument, text: t }, "yaml");
          }}
        />
      ) : (
        <div ref={sheet} className="flex min-h-0 flex-1 flex-col">
          <Sheet
            label={`Sheet of ${doc.title || name}`}
            doc={doc}
            rows={rows}
            columns={heads}
            focus={focus}
            onFocus={setFocus}
            findings={findings}
            onKey={onKey}
            onOpen={() => {
              const find = (what: string) => sheet.current?.querySelector<HTMLElement>(`[data-form] ${what}`);
              (find("[data-begin]") ?? find(":is(input, select, textarea, .cm-content, button)"))?.focus();
            }}
            intakeText={<IntakeSentence intake={doc.intake} />}
            stepsHead={
              <>
                <div className="font-bold text-ink">Steps</div>
                <div className="font-normal">{intakeWhere(doc.intake)}</div>
              </>
            }
            last={
              <button type="button" className="btn-bare py-1.5" onClick={() => setSample("new")}>
                + sample
              </button>
            }
          />
          {row && (
            <Desk
              key={row.key + row.kind}
              doc={doc}
              row={row}
              sample={current}
              rehearsal={whole?.sample === current?.name ? whole : undefined}
              findings={findings}
              reference={reference.data}
              connections={connections.data ?? []}
              queues={(queues.data ?? []).map((q) => q.name)}
              topics={(topics.data ?? []).map((t) => t.name)}
              tables={(tables.data ?? []).map((t) => t.name)}
              flow={flow}
              onChange={(next, mark) => put(next, mark)}
              onAdd={() => setAdding(true)}
              onRemove={remove}
            />
          )}
        </div>
      )}
      <AddStep
        open={adding}
        onClose={() => setAdding(false)}
        onGone={() => sheet.current?.querySelector<HTMLElement>("[role=grid]")?.focus()}
        onAdd={add}
        reference={reference.data}
      />
      {sample && (
        <SampleDialog
          flow={name}
          doc={doc}
          sample={sample === "new" ? null : sample}
          rehearsal={sample === "new" ? undefined : whole}
          names={list.map((s) => s.name)}
          onFormat={(format) => put({ ...doc, intake: { ...doc.intake, format } })}
          onClose={() => {
            setSample(null);
            queryClient.invalidateQueries({ queryKey: ["flows", name, "samples"] });
          }}
        />
      )}
      <Versions
        flow={name}
        live={flow.live}
        doc={doc}
        onLive={() => void reread()}
        open={history}
        onClose={() => setHistory(false)}
        onTake={(taken, text) => change({ doc: taken, text })}
      />
      <FilesDialog flow={name} doc={doc} open={files} onClose={() => setFiles(false)} write={writeFile} />
      {loading && <LoadsDialog flow={name} onClose={() => setLoading(false)} />}
      <Together
        meanwhile={draft.meanwhile}
        mine={doc}
        onTake={(taken) => {
          if (taken === doc && draft.meanwhile) change({ doc: draft.meanwhile.theirs, text: null });
          draft.together();
          change({ doc: taken, text: null });
        }}
      />
      <AllTheSame left={left} onClose={() => setLeft(null)} />
    </>
  );
}
