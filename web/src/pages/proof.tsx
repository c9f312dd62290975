import { type ReactNode, useEffect, useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { toast } from "sonner";
import { call, type Draft, enc, ProblemError, type Schemas } from "../api/client";
import { queryClient, useVersion, useVersions } from "../api/queries";
import { useKnown, useMay, usePublishing, useWho } from "../api/session";
import { changesOf } from "../model/changes";
import { type FlowDocument, type Row, rowsOf } from "../model/model";
import { Changes } from "../sheet/changes";
import { AllTheSame, type LeftBehind } from "../sheet/dialogs";
import { Mark } from "../ui/marks";
import { FindingList, PageHead, says, Text, Trouble } from "../ui/parts";
import { local, Time } from "../ui/time";
import type { Followed } from "./draft";
import { who } from "./letters";
import { SecondPerson, secondOf } from "./second-person";
import { Traffic } from "./traffic";
import { type How, WhenDialog } from "./when";

type Loaded = {
  draft: Draft;
  done: Schemas["Followed"];
  routes: Schemas["Analysis"];
  touched: Schemas["Touched"][];
};

/** What a new version will change and what it was checked against, before it is live. */
export default function ProofPage() {
  const { name = "" } = useParams();
  const [loaded, setLoaded] = useState<Loaded>();
  const [error, setError] = useState<unknown>();
  useEffect(() => {
    const read = async () => {
      const draft = (await call<Draft>(`/api/v1/flows/${enc(name)}`)).value;
      const done = (await call<Schemas["Followed"]>(`/api/v1/flows/${enc(name)}/follow`, { body: {} })).value;
      const routes = (await call<Schemas["Analysis"]>(`/api/v1/flows/${enc(name)}/analyse`, { body: {} })).value;
      const touched = await call<Schemas["Touched"][]>(`/api/v1/flows/${enc(name)}/touched`, { body: {} }).then(
        ({ value }) => value,
        () => [], // a draft with errors hands nothing on
      );
      setLoaded({ draft, done, routes, touched });
    };
    read().catch(setError);
  }, [name]);
  if (error) return <Trouble error={error} />;
  if (!loaded) return <p className="p-6 text-quiet">Loading…</p>;
  return <Proof name={name} {...loaded} />;
}

function Proof({ name, draft, done, routes, touched }: Loaded & { name: string }) {
  const go = useNavigate();
  const live = useVersion(draft.live ? name : "", draft.live);
  const versions = useVersions(name);
  const [note, setNote] = useState("");
  const [despite, setDespite] = useState("");
  const [by, setBy] = useState(who);
  const known = useKnown();
  const may = useMay();
  const whoIs = useWho();
  const me = whoIs && whoIs.kind !== "visitor" ? whoIs.name : by;
  const areas = usePublishing().data?.secondPerson;
  const [left, setLeft] = useState<LeftBehind | null>(null);
  const [when, setWhen] = useState<"at" | "share" | null>(null);
  const [before, setBefore] = useState<Followed[]>();
  const doc = draft.document as unknown as FlowDocument;
  const was = live.data?.document as unknown as FlowDocument | undefined;
  const changes = useMemo(() => (was ? changesOf(was, doc) : null), [was, doc]);
  const rows = useMemo(() => rowsOf(doc), [doc]);
  const both = useMemo(() => {
    // with the steps that are no more, behind those that are
    const key = (r: Row) => `${r.kind} ${r.key}`;
    const here = new Set(rows.map(key));
    return was ? [...rows, ...rowsOf(was).filter((r) => !here.has(key(r)))] : rows;
  }, [rows, was]);
  const columns = (done.columns ?? []) as Followed[];
  useEffect(() => {
    if (live.data)
      call<Schemas["Followed"]>(`/api/v1/flows/${enc(name)}/follow`, { body: { document: live.data.text } }).then(
        ({ value }) => setBefore((value.columns ?? []) as Followed[]),
        () => setBefore([]), // it cannot be walked any more
      );
  }, [live.data, name]);
  const errors = done.findings.filter((f) => f.level === "error");
  const warnings = done.findings.filter((f) => f.level !== "error" && f.code !== "never-taken"); // it is said of the ways
  const others = columns.filter((c) => c.expected === "differs");
  const unreached = done.unreached;
  const nothing = draft.live > 0 && draft.edits === 0;
  const last = versions.data?.find((v) => v.version === draft.live);
  const publish = async (query = "", how: How = {}) => {
    if (by) localStorage.setItem("who", by);
    try {
      const { value } = await call<{ version: number; asked?: Schemas["Asked"] }>(
        `/api/v1/flows/${enc(name)}/publish${query}`,
        { body: { by, note, despite, ...how } },
      );
      await queryClient.invalidateQueries({ queryKey: ["flows"] });
      if (value.asked) toast.success("A second person is asked: it goes live when another one publishes this draft");
      else if (how.at) toast.success(`Version ${value.version} goes live ${local(how.at)}`);
      else if (how.share) toast.success(`Version ${value.version} takes 1 message in ${how.share}`);
      else if (value.version === draft.live)
        toast(`Version ${value.version} is live already, and the draft is the same`);
      else toast.success(`Version ${value.version} is live`);
      go(`/flows/${enc(name)}`);
    } catch (e) {
      if (e instanceof ProblemError && e.title === "It is still in use")
        setLeft({ what: "Publish it", why: e.detail, go: () => void publish("?sure=true", how) });
      else toast.error(says(e));
    }
  };
  const version = (versions.data?.[0]?.version ?? draft.live) + 1;
  const second = secondOf(draft.asked, areas, doc?.area ?? "", me);
  const held = second === "asked" || errors.length > 0 || nothing || (others.length > 0 && despite.trim() === "");
  return (
    <>
      <PageHead
        title={`Publish ${doc?.title || name}`}
        facts={
          draft.live ? (
            <>
              version {draft.live} is live since <Time at={last?.publishedAt ?? ""} withDate />
              {last?.by && `, by ${last.by}`}
            </>
          ) : (
            "it was never published"
          )
        }
      >
        <Link className="btn" to={`/flows/${enc(name)}`}>
          Back to the sheet
        </Link>
        <button type="button" className="btn" disabled={held || second === "confirm"} onClick={() => setWhen("at")}>
          At a time…
        </button>
        {draft.live > 0 && (
          <button
            type="button"
            className="btn"
            disabled={held || second === "confirm"}
            onClick={() => setWhen("share")}
          >
            For a share first…
          </button>
        )}
        <button type="button" className="btn btn-go" disabled={held} onClick={() => publish()}>
          {second === "ask"
            ? "Ask a second person"
            : second === "confirm"
              ? `Publish what ${draft.asked?.by} asked for`
              : `Make it version ${version}`}
        </button>
      </PageHead>
      <div className="grid min-h-0 flex-1 grid-cols-[minmax(300px,2fr)_minmax(0,4fr)]">
        <div className="min-h-0 overflow-auto border-r border-line bg-sheet">
          <h2 className="pane-head bg-paper">What changes, in words</h2>
          <div className="space-y-2 px-4 py-3" data-testid="changes">
            {nothing ? (
              <p className="text-quiet">{nothingWords(draft)}</p>
            ) : changes ? (
              <Changes {...changes} />
            ) : (
              <p className="text-quiet">
                {draft.live ? "…" : `Everything is new: ${rows.filter((r) => r.kind === "step").length} steps.`}
              </p>
            )}
          </div>
          {(second !== "not" || draft.asked) && (
            <>
              <h2 className="pane-head border-t border-line bg-paper">A second person</h2>
              <SecondPerson
                name={name}
                asked={draft.asked}
                second={second}
                may={may("publish")}
                onBack={() => go(`/flows/${enc(name)}`)}
              />
            </>
          )}
          <h2 className="pane-head border-t border-line bg-paper">What it is checked against</h2>
          <ul className="space-y-1.5 px-4 py-3" data-testid="checks">
            <Checked good={errors.length === 0} bad>
              {errors.length === 0
                ? "the document has no errors"
                : "the document has errors, so it cannot be published"}
              {errors.length > 0 && <FindingList findings={errors} />}
            </Checked>
            {columns.length === 0 && <Checked good={false}>no sample shows what it does</Checked>}
            {columns.some((c) => c.expected !== "none") && (
              <Checked good={others.length === 0} bad>
                {others.length === 0
                  ? `${columns.filter((c) => c.expected !== "none").length} of ${columns.length} samples have an expected outcome, and come to it`
                  : `not as expected: ${others.map((c) => c.sample).join(", ")}`}
                {others.map((c) => (
                  <span key={c.sample} className="block text-[12.5px]">
                    {c.sample} {c.breaks?.join("; ")}
                  </span>
                ))}
              </Checked>
            )}
            {columns.length > 0 && !columns.some((c) => c.expected !== "none") && (
              <Checked good={false}>no sample says what is expected of it</Checked>
            )}
            {columns.length > 0 && (
              <Checked good={unreached.length === 0}>
                {unreached.length === 0 ? (
                  "every step and every way is reached by a sample"
                ) : (
                  <>
                    no sample reaches{" "}
                    {unreached.map((u, i) => (
                      <span key={u.kind + u.path}>
                        {i > 0 && ", "}
                        <span className="chip">
                          {u.kind === "outcome"
                            ? `${u.step}, ${u.way}`
                            : u.way
                              ? `${u.step}: ${u.way}`
                              : u.kind === "else"
                                ? `${u.step}, if it fails`
                                : u.step}
                        </span>
                      </span>
                    ))}
                  </>
                )}
              </Checked>
            )}
            <Routes name={name} routes={routes} any={rows.some((r) => r.kind === "step" && r.step.kind === "route")} />
            {touched.map((t) => (
              <Checked key={t.by + t.name + t.flow} good={t.by === "caller" || t.breaks.length === 0} bad>
                {touchedWords(t)}
              </Checked>
            ))}
            {warnings.length > 0 && (
              <Checked good={false}>
                <FindingList findings={warnings} />
              </Checked>
            )}
          </ul>
          {others.length > 0 && (
            <>
              <h2 className="pane-head border-t border-line bg-paper">Why it goes live all the same</h2>
              <div className="px-4 py-3">
                <Text
                  label="Why it goes live all the same"
                  value={despite}
                  onChange={setDespite}
                  placeholder="the version keeps it"
                />
              </div>
            </>
          )}
          <h2 className="pane-head border-t border-line bg-paper">A word for those who come after</h2>
          <div className="space-y-2 px-4 py-3">
            <textarea
              aria-label="A word for those who come after"
              className="field"
              rows={3}
              maxLength={2000}
              value={note}
              onChange={(e) => setNote(e.target.value)}
            />
            {known ? (
              <p className="text-quiet">by {known}</p>
            ) : (
              <Text label="Your name" value={by} onChange={setBy} placeholder="your name; nobody checks it" />
            )}
          </div>
        </div>
        {!draft.live ? (
          <p className="p-4 text-quiet">There is no version yet with which the draft could be compared.</p>
        ) : nothing ? (
          <p className="p-4 text-quiet">{nothingWords(draft)}</p>
        ) : (
          <Traffic name={name} rows={both} live={draft.live} before={before} after={columns} />
        )}
      </div>
      <AllTheSame left={left} onClose={() => setLeft(null)} />
      <WhenDialog
        what={when}
        version={version}
        ordered={doc?.intake.order !== undefined}
        onClose={() => setWhen(null)}
        onGo={(how) => {
          setWhen(null);
          void publish("", how);
        }}
      />
    </>
  );
}

/** What holds of the ways of routes, each with a message that shows it, which can be kept as a sample. */
function Routes({ name, routes, any }: { name: string; routes: Schemas["Analysis"]; any: boolean }) {
  const [kept, setKept] = useState<string[]>([]);
  const keep = async (c: Schemas["Claim"]) => {
    const sample = `${c.step} ${c.kind} ${c.way || "otherwise"}`.slice(0, 60);
    const words = (v: unknown) =>
      Object.fromEntries(Object.entries((v ?? {}) as Record<string, unknown>).map(([k, x]) => [k, String(x)]));
    try {
      await call(`/api/v1/flows/${enc(name)}/samples/${enc(sample)}`, {
        method: "PUT",
        body: {
          name: sample,
          body: JSON.stringify(c.proof?.body, null, 2),
          headers: { "content-type": "application/json", ...words(c.proof?.headers) },
          params: words(c.proof?.params),
          query: words(c.proof?.query),
        },
      });
      setKept([...kept, c.text]);
    } catch (e) {
      toast.error(says(e));
    }
  };
  if (!any) return null;
  const never = routes.claims.filter((c) => c.kind === "impossible" || c.kind === "shadowed");
  const told = routes.claims.filter((c) => c.kind === "overlap" || c.kind === "gap");
  return (
    <>
      {never.length === 0 && told.length === 0 && routes.undecided.length === 0 && (
        <Checked good>no two ways overlap, and nothing falls between them</Checked>
      )}
      {never.map((c) => (
        <Checked key={c.text} good={false} bad>
          {c.text}
        </Checked>
      ))}
      {told.map((c) => (
        <Checked key={c.text} good={c.kind === "gap" && c.text.endsWith("otherwise")}>
          {c.step}: {c.text}
          <span className="block">
            <span className="data break-all text-ink">{JSON.stringify(c.proof?.body)}</span>{" "}
            {kept.includes(c.text) ? (
              <span className="text-quiet">kept as a sample</span>
            ) : (
              <button type="button" className="btn-bare" onClick={() => keep(c)}>
                keep it as a sample
              </button>
            )}
          </span>
        </Checked>
      ))}
      {routes.undecided.map((u) => (
        <li key={u.pointer} className="pl-[17px] text-quiet">
          {u.step}: not decided of {u.way}: {u.why}
        </li>
      ))}
    </>
  );
}

/** Why a draft that was not changed has nothing to publish. */
function nothingWords(d: Draft): string {
  if (d.trial) return `Nothing: the draft is as version ${d.trial.version} is, which takes a share of messages.`;
  if (d.planned) return `Nothing: the draft is as version ${d.planned.version} is, which waits for its time.`;
  return `Nothing: the draft is as version ${d.live} is, which is live.`;
}

/** What of another flow: that it takes what comes, or that it cannot go on with it. */
function touchedWords(t: Schemas["Touched"]): string {
  if (t.by === "caller") return `${t.title} calls this flow, and gets what it comes to`;
  const takes = t.by === "flow" ? `${t.title} is called` : `${t.title} reads the ${t.by} ${t.name}`;
  if (t.tried === 0) return `${takes}; no sample comes to it`;
  if (t.breaks.length === 0)
    return `${takes}, and what ${t.tried === 1 ? "1 sample" : `${t.tried} samples`} hand on fits`;
  return `${takes}, and cannot go on with what comes of ${t.breaks.join(", ")}: ${t.why}`;
}

function Checked({ good, bad, children }: { good: boolean; bad?: boolean; children: ReactNode }) {
  return (
    <li className="flex gap-2">
      <span className="pt-1">
        <Mark state={good ? "delivered" : bad ? "dead letter" : "waiting"} size={9} />
      </span>
      <div className={`min-w-0 ${good ? "" : bad ? "text-dead" : "text-wait"}`}>{children}</div>
    </li>
  );
}
