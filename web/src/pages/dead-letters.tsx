import { useQueries } from "@tanstack/react-query";
import { diffLines, diffWordsWithSpace } from "diff";
import { useEffect, useMemo, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { toast } from "sonner";
import { call, get, type Letter, type Rehearsal, type Resent, type StoredMessage } from "../api/client";
import { queryClient, useCauses, useLetter, useLetters, useVersion } from "../api/queries";
import { type FlowDocument, rowKey, rowsOf } from "../model/model";
import { IntakeSentence } from "../sheet/intake";
import { type Focus, Sheet } from "../sheet/sheet";
import { Code } from "../ui/code";
import { Mark } from "../ui/marks";
import { Dialog, Empty, PageHead, Setting, says, Text, Trouble } from "../ui/parts";
import { age, span, Time, useNow } from "../ui/time";
import { compact, layout } from "../ui/tree";

const shown = 4; // letters side by side

const classTone: Record<string, string> = {
  data: "bg-loss text-dead",
  target: "bg-change text-wait",
  flow: "bg-mark text-deep",
};
const pretty = (text: string) =>
  layout(text)
    ?.map((l) => "  ".repeat(l.indent) + l.tokens.map((t) => t.text).join(""))
    .join("\n") ?? text;

export function DeadLettersPage() {
  const [search, setSearch] = useSearchParams();
  const causes = useCauses();
  const now = useNow(5000);
  const cause = search.get("cause") ?? causes.data?.[0]?.cause ?? "";
  const total = causes.data?.reduce((n, c) => n + c.count, 0) ?? 0;
  const oldest = causes.data?.map((c) => new Date(c.since).getTime()).sort((a, b) => a - b)[0];
  useEffect(() => {
    // A cause whose last letter is gone makes way for the next one.
    if (causes.data && search.get("cause") && !causes.data.some((c) => c.cause === search.get("cause")))
      setSearch({}, { replace: true });
  }, [causes.data, search, setSearch]);
  if (causes.error) return <Trouble error={causes.error} />;
  if (causes.data?.length === 0) {
    return (
      <>
        <PageHead title="Dead letters" />
        <Empty title="No dead letters">
          <p>
            A message that no step could work on, or no target would take, comes here and stays until a person resends
            or discards it.
          </p>
        </Empty>
      </>
    );
  }
  return (
    <div className="grid min-h-0 flex-1 grid-cols-[400px_1fr]">
      <aside className="overflow-auto border-r-2 border-deep">
        <div className="border-b border-line px-4 py-3">
          <h1>
            {total} {total === 1 ? "dead letter" : "dead letters"}, {causes.data?.length ?? 0}{" "}
            {causes.data?.length === 1 ? "cause" : "causes"}
          </h1>
          {oldest && <p className="text-quiet">Oldest has waited {span(now - oldest)}</p>}
        </div>
        {causes.data?.map((c) => (
          <button
            key={c.cause}
            type="button"
            aria-current={c.cause === cause}
            className={`flex w-full gap-3 border-b border-line px-4 py-3 text-left hover:bg-mark ${c.cause === cause ? "bg-sheet shadow-[inset_4px_0_var(--color-dead)]" : ""}`}
            onClick={() => setSearch({ cause: c.cause })}
          >
            <span className="min-w-0 flex-1">
              <b className="line-clamp-2">{c.text}</b>
              <span className="text-quiet">
                <span className={`mr-1.5 rounded-[2px] px-1.5 text-[12px] font-semibold ${classTone[c.class]}`}>
                  {c.class}
                </span>
                {c.flow} · {c.step || "intake"} · since <Time at={c.since} /> ({age(now - new Date(c.since).getTime())})
              </span>
            </span>
            <b className="text-[16px] text-dead">{c.count}</b>
          </button>
        ))}
      </aside>
      {cause && <Cause key={cause} cause={cause} />}
    </div>
  );
}

function Cause({ cause }: { cause: string }) {
  const [search, setSearch] = useSearchParams();
  const letters = useLetters(cause);
  const go = useNavigate();
  const all = letters.data ?? [];
  const wanted = search.get("letter") ?? "";
  const index = Math.max(
    0,
    all.findIndex((l) => l.id === wanted),
  );
  const start = Math.max(0, Math.min(index - shown + 1, all.length - shown));
  const window_ = all.slice(Math.max(0, start), Math.max(0, start) + shown);
  const letter = all[index];
  const version = useVersion(letter?.flow ?? "", letter?.version ?? 0);
  const doc = version.data?.document as FlowDocument | undefined;
  const rows = useMemo(() => (doc ? rowsOf(doc) : []), [doc]);
  const traces = useQueries({
    queries: window_.map((l) => ({
      queryKey: ["transactions", l.transaction, "rehearsal"],
      queryFn: () => get<Rehearsal>(`/api/v1/transactions/${l.transaction}/rehearsal`),
    })),
  });
  const [row, setRow] = useState<number | null>(null);
  const [discarding, setDiscarding] = useState<Letter[] | null>(null);
  const [why, setWhy] = useState("");
  if (!letter) return <p className="p-6 text-quiet">{letters.data ? "These letters are gone." : "Loading…"}</p>;
  const focus: Focus = {
    row:
      row ??
      Math.max(
        0,
        rows.findIndex((r) => r.key === rowKey(letter.path)),
      ),
    column: window_.indexOf(letter),
  };
  const resend = async (ids: string[], extra: object = {}) => {
    try {
      await call("/api/v1/dead-letters/resend", { body: { ids, ...extra } });
      toast.success(ids.length === 1 ? "It is on its way again" : `${ids.length} are on their way again`, {
        action: { label: "Show", onClick: () => go(`/transactions/${letter.transaction}`) },
      });
      await queryClient.invalidateQueries({ queryKey: ["dead-letters"] });
      return true;
    } catch (e) {
      toast.error(says(e));
      return false;
    }
  };
  const discard = async () => {
    if (!discarding) return;
    try {
      await call("/api/v1/dead-letters/discard", { body: { ids: discarding.map((l) => l.id), why } });
      setDiscarding(null);
      await queryClient.invalidateQueries({ queryKey: ["dead-letters"] });
    } catch (e) {
      toast.error(says(e));
    }
  };
  return (
    <div className="flex min-h-0 min-w-0 flex-col">
      <PageHead
        title={
          <span className="line-clamp-1 max-w-[420px] text-[16px] whitespace-normal" title={letter.reason}>
            {letter.reason}
          </span>
        }
        facts={`${all.length} ${all.length === 1 ? "letter" : "letters"} of ${letter.flow}`}
      >
        <button type="button" className="btn" onClick={() => setDiscarding(all)}>
          Discard {all.length > 1 ? `all ${all.length}` : ""}…
        </button>
        <button type="button" className="btn" onClick={() => resend(all.map((l) => l.id))}>
          Resend {all.length > 1 ? `all ${all.length} ` : ""}as they are
        </button>
      </PageHead>
      {doc && (
        <Sheet
          label="Dead letters of one cause"
          doc={doc}
          rows={rows}
          focus={focus}
          onFocus={(f) => {
            setRow(f.row);
            const next = window_[f.column];
            if (next) setSearch({ cause, letter: next.id }, { replace: true });
          }}
          onOpen={() => go(`/transactions/${letter.transaction}`)}
          columns={window_.map((l, i) => ({
            key: l.id,
            title: l.reference || l.id.slice(-8),
            sub: <Time at={l.at} />,
            rehearsal: traces[i]?.data,
          }))}
          intakeText={<IntakeSentence intake={doc.intake} />}
          stepsHead={`Steps, version ${letter.version}`}
        />
      )}
      <Repair
        key={letter.id}
        letter={letter}
        onResend={(extra) => resend([letter.id], extra)}
        onDiscard={() => setDiscarding([letter])}
      />
      <Dialog
        open={discarding !== null}
        onClose={() => setDiscarding(null)}
        title={`Discard ${discarding?.length === 1 ? "this dead letter" : `${discarding?.length} dead letters`}`}
      >
        <p className="mb-2">
          {discarding?.length === 1
            ? `The message ${discarding[0]?.reference ?? ""} will not be delivered.`
            : `These messages will not be delivered: ${discarding
                ?.slice(0, 8)
                .map((l) => l.reference || l.id.slice(-8))
                .join(", ")}${(discarding?.length ?? 0) > 8 ? " and others" : ""}.`}{" "}
          They stay in the journal, and this cannot be undone.
        </p>
        <Setting label="Why">
          <Text label="Why" value={why} onChange={setWhy} placeholder="for those who ask later" />
        </Setting>
        <button type="button" className="btn btn-go" onClick={discard}>
          Discard
        </button>
      </Dialog>
    </div>
  );
}

/** The message of a letter to edit, what would become of it, and what became of it before. */
function Repair({
  letter,
  onResend,
  onDiscard,
}: {
  letter: Letter;
  onResend: (extra: object) => Promise<boolean>;
  onDiscard: () => void;
}) {
  const whole = useLetter(letter.id);
  const [original, setOriginal] = useState<string | null>(null);
  const [dense, setDense] = useState(false); // it came without any blanks, and leaves so
  const [text, setText] = useState("");
  const [under, setUnder] = useState<"own" | "live">("own");
  const [preview, setPreview] = useState<Resent | null>(null);
  const [replies, setReplies] = useState<Replies>({}); // what outside systems would answer
  useEffect(() => {
    get<StoredMessage[]>(`/api/v1/transactions/${letter.transaction}/messages`).then(
      (m) => {
        const raw = m.at(-1)?.body.text ?? "";
        const dense = layout(raw) !== null && compact(raw) === raw;
        const now = dense ? pretty(raw) : raw;
        setDense(dense);
        setOriginal(now);
        setText(now);
      },
      (e) => toast.error(says(e)),
    );
  }, [letter.transaction]);
  const edited = original !== null && text !== original;
  const extra = useMemo(
    () => ({ version: under, ...(edited ? { message: dense ? compact(text) : text } : {}) }),
    [under, edited, text, dense],
  );
  useEffect(() => {
    if (original === null) return;
    const stop = new AbortController();
    const t = setTimeout(
      () =>
        call<Resent[]>("/api/v1/dead-letters/resend", {
          body: { ids: [letter.id], preview: true, ...extra, replies },
          signal: stop.signal,
        }).then(
          ({ value }) => setPreview(value[0] ?? null),
          (e) => stop.signal.aborted || setPreview({ letter: letter.id, error: says(e) }),
        ),
      150,
    );
    return () => {
      clearTimeout(t);
      stop.abort();
    };
  }, [letter.id, extra, original, replies]);
  return (
    <section aria-label="Repair" className="grid h-[46%] shrink-0 grid-cols-[5fr_4fr_3fr] border-t-2 border-deep">
      <div className="flex min-h-0 min-w-0 flex-col border-r border-line">
        <h2 className="pane-head">
          Message {letter.reference}{" "}
          <span className="min-w-0 flex-1 truncate font-normal text-quiet">
            {edited ? "repaired, not yet sent" : "edit it to repair it"}
          </span>
          {edited && (
            <button type="button" className="btn-bare" onClick={() => setText(original)}>
              as it was
            </button>
          )}
        </h2>
        <div className="min-h-0 flex-1">
          {original !== null && (
            <Code label="Message" language={layout(original) ? "json" : "text"} value={text} onChange={setText} />
          )}
        </div>
        <div className="flex items-center gap-2 border-t border-line px-3 py-2">
          <select
            aria-label="Version to resend under"
            className="field min-w-0 flex-1"
            value={under}
            onChange={(e) => setUnder(e.target.value as "own" | "live")}
          >
            <option value="own">under version {letter.version}, its own</option>
            <option value="live">under the live version</option>
          </select>

          <button type="button" className="btn" onClick={onDiscard}>
            Discard…
          </button>
          <button type="button" className="btn btn-go" disabled={!!preview?.error} onClick={() => onResend(extra)}>
            {edited ? "Resend repaired" : "Resend"}
          </button>
        </div>
      </div>
      <div className="flex min-h-0 min-w-0 flex-col border-r border-line bg-sheet">
        <h2 className="pane-head bg-paper">What would happen</h2>
        <div className="min-h-0 flex-1 overflow-auto p-3" data-testid="preview">
          {preview?.error && <p className="border-l-4 border-dead bg-loss px-3 py-2">{preview.error}</p>}
          {preview?.rehearsal && (
            <>
              <p className="flex items-center gap-1.5 font-semibold">
                <Mark state={preview.rehearsal.state} />
                {preview.rehearsal.state === "dead letter"
                  ? "a dead letter again"
                  : preview.rehearsal.state === "delivered"
                    ? "delivered, if the targets take it"
                    : preview.rehearsal.state}
              </p>
              {preview.rehearsal.reason && <p className="mt-1 text-dead">{preview.rehearsal.reason}</p>}
              <AskedAnew unknown={preview.rehearsal.unknown ?? []} replies={replies} onReplies={setReplies} />
              <ul className="mt-2 space-y-0.5">
                {preview.rehearsal.trace.map((t) => (
                  <li key={t.path} className="flex gap-2">
                    <b className="shrink-0 text-deep">{t.step}</b>
                    <span className="min-w-0 truncate text-quiet">{t.outcome}</span>
                  </li>
                ))}
              </ul>
              {edited && original !== null && <Difference before={original} after={text} />}
            </>
          )}
        </div>
      </div>
      <div className="flex min-h-0 min-w-0 flex-col">
        <h2 className="pane-head">History</h2>
        <ol className="min-h-0 flex-1 overflow-auto" data-testid="history">
          {whole.data?.history.map((h) => (
            <li key={h.at + h.what} className="border-b border-line px-3 py-1.5">
              <b>{h.what}</b> <Time at={h.at} />
              {h.who && <span className="text-quiet"> by {h.who}</span>}{" "}
              <span className="break-words text-quiet">{h.detail}</span>
            </li>
          ))}
        </ol>
      </div>
    </section>
  );
}

type Replies = Record<string, { status: number; body: string }>;

/** Questions that a resend asks anew, whose answers nobody knows before: the reader says what they might be. */
function AskedAnew(p: {
  unknown: NonNullable<Rehearsal["unknown"]>;
  replies: Replies;
  onReplies: (r: Replies) => void;
}) {
  const [status, setStatus] = useState("200");
  const [body, setBody] = useState("{}");
  const first = p.unknown[0];
  const given = Object.keys(p.replies);
  return (
    <>
      {given.length > 0 && (
        <p className="mt-1 text-quiet">
          as if {given.join(", ")} answered as you said{" "}
          <button type="button" className="btn-bare" onClick={() => p.onReplies({})}>
            take it back
          </button>
        </p>
      )}
      {first && (
        <form
          key={first.path}
          className="mt-2 border-l-4 border-buoy bg-change px-3 py-2"
          aria-label={`What ${first.target} would answer`}
          onSubmit={(e) => {
            e.preventDefault();
            p.onReplies({ ...p.replies, [first.path]: { status: Number(status) || 200, body } });
          }}
        >
          <p className="mb-1.5">
            <b>{first.step}</b> asks {first.target} anew, and what it answers is not known before. If it answers:
          </p>
          <div className="flex gap-2">
            <input
              aria-label="Status of the answer"
              className="field data !w-20"
              type="number"
              value={status}
              onChange={(e) => setStatus(e.target.value)}
            />
            <input
              aria-label="Body of the answer"
              className="field data flex-1"
              value={body}
              spellCheck={false}
              onChange={(e) => setBody(e.target.value)}
            />
            <button type="submit" className="btn">
              go on
            </button>
          </div>
        </form>
      )}
    </>
  );
}

/** What a repair changes: the lines that differ, and in them the words. */
function Difference({ before, after }: { before: string; after: string }) {
  const parts = diffLines(before, after);
  return (
    <div className="data mt-3 border-t border-line pt-2" data-testid="difference">
      {parts.map((part, i) => {
        const other = parts[i + 1];
        if (part.removed && other?.added)
          return (
            <pre key={i} className="whitespace-pre-wrap">
              {diffWordsWithSpace(part.value.trimEnd(), other.value.trimEnd()).map((w, j) =>
                w.added ? (
                  <ins key={j} className="bg-mark font-bold no-underline">
                    {w.value}
                  </ins>
                ) : w.removed ? (
                  <del key={j} className="bg-loss">
                    {w.value}
                  </del>
                ) : (
                  <span key={j}>{w.value}</span>
                ),
              )}
            </pre>
          );
        if ((part.added && !parts[i - 1]?.removed) || part.removed)
          return (
            <pre key={i} className={`whitespace-pre-wrap ${part.added ? "bg-mark" : "bg-loss"}`}>
              {part.value.trimEnd().replace(/^/gm, part.added ? "+ " : "− ")}
            </pre>
          );
        return null;
      })}
    </div>
  );
}
