import { applyPatch, type Operation as PatchOperation } from "fast-json-patch";
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
import { useHistory } from "../model/edit";
import { type FlowDocument, type Place, rowsOf } from "../model/model";
import { renameStep } from "../model/restructure";
import { AddStep } from "../sheet/add-step";
import { useClipboard } from "../sheet/clipboard";
import { Desk } from "../sheet/desk";
import { AllTheSame, type LeftBehind, SampleDialog } from "../sheet/dialogs";
import { extract, inline } from "../sheet/extract";
import { FilesDialog } from "../sheet/files";
import { IntakeSentence, intakeWhere } from "../sheet/intake";
import { Many } from "../sheet/many";
import { renameInSamples } from "../sheet/rename";
import { type Column, type Key, Sheet } from "../sheet/sheet";
import { Together, useOthers } from "../sheet/together";
import { Trial } from "../sheet/trial";
import { useUnreached } from "../sheet/unreached";
import { Versions } from "../sheet/versions";
import { shapes, YAML } from "../sheet/yaml";
import { typing } from "../ui/keys";
import { Mark } from "../ui/marks";
import { PageHead, says, Trouble } from "../ui/parts";
import { useFollowed, useSaved, type Version } from "./draft";
import { useEditing } from "./editing";
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
  const [asYAML, setAsYAML] = useState(false);
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
  const put = (next: FlowDocument, mark = "") => change({ doc: next, text: null }, mark);
  const edit = useEditing({ name, doc, rows, put, undo });
  const { focus, row, goTo, remove } = edit;

  const list = samples.data ?? [];
  const current = list[Math.min(focus.column, list.length - 1)];
  const { findings, setFindings, text, columns, unreached, whole } = useFollowed(
    name,
    first,
    present,
    filesKey,
    samples.data,
    sample && sample !== "new" ? sample.name : current?.name,
  );

  const onKey = (e: Key) => {
    if (edit.onKey(e) || e.ctrlKey || e.metaKey || e.altKey) return;
    if (e.key === "s" && current) {
      e.preventDefault();
      setSample(current);
    }
  };
  const { nowhere, makeThere } = useUnreached(name, present, unreached, list.length);
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

  useClipboard(row, doc, put, goTo, remove, edit.places);
  const extracted = async (places: Place[]) => {
    try {
      const r = await extract(doc, places);
      put(r.doc);
      edit.clear();
      edit.goToStep(r.doc, r.id);
      toast(`The steps are the flow ${r.flow}, which is to be published before this one`, {
        action: { label: "Open it", onClick: () => go(`/flows/${enc(r.flow)}`) },
      });
    } catch (e) {
      toast.error(says(e));
    }
  };
  const inlined = async (place: Place) => {
    try {
      const r = await inline(doc, place);
      put(r.doc);
      edit.goToStep(r.doc, r.id);
    } catch (e) {
      toast.error(says(e));
    }
  };
  const renamed = async (place: Place, id: string) => {
    const next = renameStep(doc, place, id);
    put(next);
    await renameInSamples(name, doc, next, list).catch((e) => toast.error(says(e)));
    await queryClient.invalidateQueries({ queryKey: ["flows", name, "samples"] });
  };
  // Asks again where the server names what would be left behind.
  const unlessLeft = (what: string, go: (query: string) => Promise<void>) =>
    go("").catch((e) => {
      if (e instanceof ProblemError && e.status === 409)
        setLeft({ what, why: e.detail, go: () => go("?sure=true").catch((again) => toast.error(says(again))) });
      else toast.error(says(e));
    });
  // A version may go live by itself, or by somebody else.
  const flows = useFlows();
  const listed = flows.data?.find((f) => f.name === name);
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
            rows={edit.folds.shown}
            columns={heads}
            focus={focus}
            onFocus={edit.onFocus}
            chosen={edit.chosen}
            onChoose={edit.choose}
            folded={edit.folds.hidden}
            foldable={edit.folds.can}
            onFold={edit.fold}
            drag={edit.drag}
            unreached={nowhere}
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
          {edit.many ? (
            <Many
              doc={doc}
              places={edit.places}
              onChange={put}
              onRemove={remove}
              onFold={edit.fold}
              onExtract={() => void extracted(edit.places)}
              onClear={edit.clear}
            />
          ) : row ? (
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
              onAdd={() => edit.setAdding(true)}
              onRemove={remove}
              onRename={(place, id) => void renamed(place, id)}
              onMend={(m) => put(applyPatch(structuredClone(doc), m.patch as PatchOperation[]).newDocument)}
              unreached={nowhere.has(row.key) ? { onMake: () => makeThere(row) } : undefined}
              onInline={() => void inlined(row.place)}
            />
          ) : null}
        </div>
      )}
      <AddStep
        open={edit.adding}
        doc={doc}
        given={{
          connections: connections.data ?? [],
          queues: (queues.data ?? []).map((q) => q.name),
          topics: (topics.data ?? []).map((t) => t.name),
          tables: (tables.data ?? []).map((t) => t.name),
          flows: (flows.data ?? []).filter((f) => f.intake.kind === "subflow").map((f) => f.name),
        }}
        onClose={() => edit.setAdding(false)}
        onGone={() => sheet.current?.querySelector<HTMLElement>("[role=grid]")?.focus()}
        onAdd={edit.add}
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
