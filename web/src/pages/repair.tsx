import { useEffect, useMemo, useState } from "react";
import { toast } from "sonner";
import { call, get, type Letter, type Rehearsal, type Resent, type StoredMessage } from "../api/client";
import { queryClient, useLetter } from "../api/queries";
import { Code } from "../ui/code";
import { Difference } from "../ui/difference";
import { Mark } from "../ui/marks";
import { says } from "../ui/parts";
import { Time } from "../ui/time";
import { compact, layout } from "../ui/tree";

const pretty = (text: string) =>
  layout(text)
    ?.map((l) => "  ".repeat(l.indent) + l.tokens.map((t) => t.text).join(""))
    .join("\n") ?? text;

type Replies = Record<string, { status: number; body: string }>;

/** What is decided about a message, as a resend and its preview take it. */
export type Edit = Record<string, unknown>;
/** What was written into the message of a letter, and the version that was chosen. */
export type Kept = { text: string; under: Under };
type Under = "own" | "live" | "draft";

/** The message of a letter to edit, what would become of it, and what became of it before. */
export function Repair({
  letter,
  kept,
  onEdit,
  onResend,
  onDiscard,
}: {
  letter: Letter;
  kept: Map<string, Kept>;
  onEdit: (e: Edit) => void;
  onResend: (extra: object) => Promise<boolean>;
  onDiscard: () => void;
}) {
  const whole = useLetter(letter.id);
  const [original, setOriginal] = useState<string | null>(null);
  const [dense, setDense] = useState(false); // it came without any blanks, and leaves so
  const [tree, setTree] = useState(false); // it is bytes, written by a schema: what is edited is its tree
  const [text, setText] = useState("");
  const [under, setUnder] = useState<Under>(kept.get(letter.id)?.under ?? "own");
  const [insist, setInsist] = useState(false);
  const [note, setNote] = useState("");
  const [preview, setPreview] = useState<Resent | null>(null);
  const [replies, setReplies] = useState<Replies>({}); // what outside systems would answer
  useEffect(() => {
    get<StoredMessage[]>(`/api/v1/transactions/${letter.transaction}/messages`).then(
      (m) => {
        const body = m.at(-1)?.body;
        const raw = body?.text ?? body?.tree ?? "";
        setTree(body?.text === undefined && body?.tree !== undefined);
        const dense = layout(raw) !== null && compact(raw) === raw;
        const now = dense ? pretty(raw) : raw;
        setDense(dense);
        setOriginal(now);
        setText(kept.get(letter.id)?.text ?? now);
      },
      (e) => toast.error(says(e)),
    );
  }, [letter.transaction, letter.id, kept]);
  const edited = original !== null && text !== original;
  const extra = useMemo(
    () => ({
      version: under,
      ...(insist ? { insist } : {}),
      ...(edited ? { [tree ? "tree" : "message"]: dense ? compact(text) : text } : {}),
    }),
    [under, edited, text, dense, tree, insist],
  );
  useEffect(() => {
    if (original === null) return;
    if (edited || under !== "own") kept.set(letter.id, { text, under });
    else kept.delete(letter.id);
    onEdit(extra);
  }, [extra, edited, text, under, original, letter.id, kept, onEdit]);
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
          <button type="button" className="btn-bare" onClick={() => save(text, `${letter.reference || letter.id}.txt`)}>
            to a file
          </button>
          <label className="btn-bare cursor-pointer">
            from a file
            <input
              type="file"
              className="sr-only"
              aria-label="Message from a file"
              onChange={(e) => {
                void e.target.files?.[0]?.text().then(setText, (err) => toast.error(says(err)));
                e.target.value = "";
              }}
            />
          </label>
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
            onChange={(e) => setUnder(e.target.value as Under)}
          >
            <option value="own">under version {letter.version}, its own</option>
            <option value="live">under the live version</option>
            <option value="draft">under the draft, to look at alone</option>
          </select>
          <label
            className="flex items-center gap-1"
            title="What was delivered before goes out once more, under its key"
          >
            <input type="checkbox" checked={insist} onChange={(e) => setInsist(e.target.checked)} /> all of it again
          </label>

          <button type="button" className="btn" onClick={onDiscard}>
            Discard…
          </button>
          <button
            type="button"
            className="btn btn-go"
            disabled={!!preview?.error || under === "draft"}
            onClick={() => onResend(extra)}
          >
            {edited ? "Resend repaired" : "Resend"}
            {under === "live" ? ", live version" : ""}
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
              {edited && original !== null && <Difference before={original} after={text} />}
              <AskedAnew unknown={preview.rehearsal.unknown ?? []} replies={replies} onReplies={setReplies} />
              <ul className="mt-2 space-y-0.5">
                {preview.rehearsal.trace.map((t) => (
                  <li key={t.path} className="flex gap-2">
                    <b className="shrink-0 text-deep">{t.step}</b>
                    <span className="min-w-0 truncate text-quiet">{t.outcome}</span>
                  </li>
                ))}
              </ul>
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
        <form
          className="flex gap-2 border-t border-line px-3 py-2"
          aria-label="Note"
          onSubmit={(e) => {
            e.preventDefault();
            const said = () => setNote("");
            void decide(note.startsWith("@") ? "assign" : "note", letter.id, note).then(said, (err) =>
              toast.error(says(err)),
            );
          }}
        >
          <input
            aria-label="A note, or @ and who looks after it"
            className="field min-w-0 flex-1"
            placeholder="a note, or @ and a name"
            value={note}
            onChange={(e) => setNote(e.target.value)}
          />
          <button type="submit" className="btn" disabled={note.trim() === ""}>
            Keep
          </button>
        </form>
      </div>
    </section>
  );
}

/** Gives a text as a file. */
function save(text: string, name: string) {
  const a = document.createElement("a");
  a.href = URL.createObjectURL(new Blob([text]));
  a.download = name;
  a.click();
  URL.revokeObjectURL(a.href);
}

/** Keeps a note with a letter, or gives it to somebody: @ and a name, @ alone to nobody. */
async function decide(what: "note" | "assign", id: string, text: string) {
  const by = localStorage.getItem("who") ?? "";
  await call(`/api/v1/dead-letters/${what}`, {
    body: what === "note" ? { ids: [id], why: text, by } : { ids: [id], to: text.slice(1).trim(), by },
  });
  await queryClient.invalidateQueries({ queryKey: ["dead-letters"] });
}

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
