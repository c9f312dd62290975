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
import { useMay } from "../api/session";
import { type FlowDocument, type Place, type Row, rowsOf } from "../model/model";
import { AddStep } from "../sheet/add-step";
import { useClipboard } from "../sheet/clipboard";
import { Desk } from "../sheet/desk";
import { AllTheSame, type LeftBehind } from "../sheet/dialogs";
import { extract, inline } from "../sheet/extract";
import { FilesDialog } from "../sheet/files";
import { useCatch, useDropped } from "../sheet/incoming";
import { IntakeSentence, intakeWhere } from "../sheet/intake";
import type { Lacking } from "../sheet/lacking";
import { Many } from "../sheet/many";
import { SampleDialog } from "../sheet/sample";
import { SampleMenu } from "../sheet/sample-menu";
import { type Column, type Key, Sheet } from "../sheet/sheet";
import { Together, useOthers } from "../sheet/together";
import { Trial } from "../sheet/trial";
import { useUnreached } from "../sheet/unreached";
import { Versions } from "../sheet/versions";
import { shapes, YAML } from "../sheet/yaml";
import { WriteFile } from "../steps/write-file";
import { typing } from "../ui/keys";
import { Mark } from "../ui/marks";
import { says, Trouble } from "../ui/parts";
import { useSettled } from "../ui/settled";
import { unsavedOf, useFollowed, useSaved } from "./draft";
import { useEditing } from "./editing";
import { FlowHead } from "./flow-head";
import { useDraftHistory } from "./history";
import { LoadsDialog } from "./loads";
import { MakeHere } from "./make-here";

const sameRow = (a: Row | undefined, b: Row | undefined) => a?.key === b?.key && a?.kind === b?.kind;

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
  const [unsaved] = useState(() => unsavedOf(name)); // left while it was asked what becomes of two drafts
  const samples = useSamples(name);
  const every = samples.data ?? [];
  const may = useMay();
  const {
    present,
    change: changed,
    rebase,
    undo,
    redo,
    rename,
    canUndo,
    canRedo,
  } = useDraftHistory(name, unsaved?.mine ?? { doc: first.document as unknown as FlowDocument, text: first.text });
  const doc = present.doc;
  const connections = useConnections();
  const queues = useQueues();
  const topics = useTopics();
  const tables = useTables();
  const reference = useReference();
  const draft = useSaved(name, first, etag, present, unsaved?.base);
  const { flow, setFlow, notSaved, filesKey, save, writeFile, edited } = draft;
  const others = useOthers(name);
  const [asYAML, setAsYAML] = useState(false);
  const [history, setHistory] = useState(false);
  const [loading, setLoading] = useState(false);
  const [files, setFiles] = useState(false);
  const [sample, setSample] = useState<Sample | "new" | null>(null);
  const [pasted, setPasted] = useState<string>();
  const [lacking, setLacking] = useState<Lacking | null>(null);
  const [left, setLeft] = useState<LeftBehind | null>(null);
  const sheet = useRef<HTMLDivElement>(null);
  const go = useNavigate();
  const rows = useMemo(() => rowsOf(doc), [doc]);
  useEffect(() => {
    import("../ui/editor"); // so that it is there when the first setting is opened
  }, []);
  const change: typeof changed = (...how) => {
    if (may("design")) changed(...how);
    else toast("You may look at it, and not change it", { id: "look" });
  };
  const put = (next: FlowDocument, mark = "") => change({ doc: next, text: null }, mark);
  const edit = useEditing({ name, doc, rows, put, undo });
  const { focus, row, goTo, remove } = edit;
  // The desk follows held arrows when the row rests; until then nothing can be done on it.
  const resting = useSettled(row, sameRow, edit.hurried);
  const looked = resting.value && (rows.find((r) => sameRow(r, resting.value)) ?? row);

  const groups = [...new Set(every.flatMap((s) => s.group ?? []))].sort();
  const [chosenGroup, setGroup] = useState("");
  const group = groups.includes(chosenGroup) ? chosenGroup : "";
  const list = group ? every.filter((s) => s.group === group) : every;
  const caught = useCatch(name);
  useDropped(
    name,
    every.map((s) => s.name),
    every[0]?.headers ?? {},
  );
  const current = list[Math.min(focus.column, list.length - 1)];
  // What the answer of the server depends on besides: samples, and what there is to name.
  const there = JSON.stringify([connections.data?.map((c) => c.name), tables.data?.map((t) => t.name)]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: they are compared, not read
  const given = useMemo(() => ({}), [samples.data, there]);
  const { findings, setFindings, text, columns, unreached, whole } = useFollowed(
    name,
    first,
    present,
    filesKey,
    given,
    sample && sample !== "new" ? sample.name : current?.name,
  );

  const onKey = (e: Key) => {
    if (edit.onKey(e) || e.ctrlKey || e.metaKey || e.altKey) return;
    if (e.key === "s" && current) {
      e.preventDefault();
      setSample(current);
    }
  };
  const { nowhere, lacking: unseen } = useUnreached(name, present, unreached, list.length);
  useEffect(() => {
    const onKeys = (e: KeyboardEvent) => {
      if (e.key === "Escape" && !e.defaultPrevented && typing(e) && !(e.target as HTMLElement).closest("[role=dialog]"))
        sheet.current?.querySelector<HTMLElement>("[role=grid]")?.focus();
    };
    window.addEventListener("keydown", onKeys);
    return () => window.removeEventListener("keydown", onKeys);
  }, []);

  useClipboard(row, doc, put, goTo, remove, edit.places, (text) => {
    setPasted(text);
    setSample("new");
  });
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
  return (
    <>
      <FlowHead
        flow={flow}
        doc={doc}
        title={doc?.title || name}
        edits={flow.edits + (edited ? 1 : 0)}
        others={others}
        asked={first.asked}
        notSaved={notSaved}
        columns={columns}
        errors={findings.filter((f) => f.level === "error").length}
        history={{ undo, redo, canUndo, canRedo }}
        asYAML={asYAML}
        onYAML={() => setAsYAML(!asYAML)}
        onVersions={() => setHistory(true)}
        onFiles={() => setFiles(true)}
        onLoad={() => setLoading(true)}
        onPause={pause}
        onPublish={publish}
      />
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
        <WriteFile value={writeFile}>
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
              below={
                rows.length === 1 && (
                  <>
                    Nothing happens to a message yet.{" "}
                    <button type="button" className="btn mr-2 ml-2" onClick={() => edit.setAdding(true)}>
                      Add the first step
                    </button>
                    {list.length === 0 && (
                      <button type="button" className="btn" onClick={() => setSample("new")}>
                        Add a sample, to see what happens
                      </button>
                    )}
                  </>
                )
              }
              findings={findings}
              onKey={onKey}
              onOpen={() => {
                resting.catchUp();
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
                <SampleMenu
                  catching={caught.catching}
                  live={flow.live > 0}
                  onNew={() => setSample("new")}
                  onCatch={() => void caught.begin()}
                  onStop={caught.stop}
                  groups={groups}
                  group={group}
                  onGroup={setGroup}
                />
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
            ) : looked ? (
              <Desk
                key={looked.key + looked.kind}
                behind={resting.behind}
                doc={doc}
                row={looked}
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
                onRename={(place, id) => void rename(place, id)}
                onMend={(m) => put(applyPatch(structuredClone(doc), m.patch as PatchOperation[]).newDocument)}
                unreached={unseen(looked)}
                onInline={() => void inlined(looked.place)}
                onMake={setLacking}
              />
            ) : null}
          </div>
        </WriteFile>
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
          names={every.map((s) => s.name)}
          groups={groups}
          pasted={pasted}
          onFormat={(format) => put({ ...doc, intake: { ...doc.intake, format } })}
          onClose={() => {
            setSample(null);
            setPasted(undefined);
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
        onBoth={(both, over) => {
          draft.together();
          rebase({ doc: both, text: null }, (v) => ({ ...v, doc: over(v.doc), text: null }));
        }}
        onTake={(taken) => {
          if (taken === doc && draft.meanwhile) change({ doc: draft.meanwhile.theirs, text: null });
          draft.together();
          change({ doc: taken, text: null });
        }}
      />
      <MakeHere lacking={lacking} onClose={() => setLacking(null)} />
      <AllTheSame left={left} onClose={() => setLeft(null)} />
    </>
  );
}
