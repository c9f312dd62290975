import { useQueries } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { toast } from "sonner";
import { call, get, type Letter, type Rehearsal } from "../api/client";
import { queryClient, useCauses, useLetters, useVersion } from "../api/queries";
import { type FlowDocument, rowKey, rowsOf } from "../model/model";
import { IntakeSentence } from "../sheet/intake";
import { type Focus, Sheet } from "../sheet/sheet";
import { Dialog, Empty, PageHead, Setting, says, Text, Trouble } from "../ui/parts";
import { age, span, Time, useNow } from "../ui/time";
import { Repair } from "./repair";

const shown = 4; // letters side by side

const classTone: Record<string, string> = {
  data: "bg-loss text-dead",
  target: "bg-change text-wait",
  flow: "bg-mark text-deep",
};

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
