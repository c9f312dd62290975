import { useInfiniteQuery, useQueries } from "@tanstack/react-query";
import { type ReactNode, useEffect, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { toast } from "sonner";
import { call, enc, get, type Letter, type Rehearsal, type Resent } from "../api/client";
import { queryClient, useVersion } from "../api/queries";
import { type FlowDocument, rowKey, rowsOf } from "../model/model";
import { IntakeSentence } from "../sheet/intake";
import { type Focus, Sheet } from "../sheet/sheet";
import { useAddress } from "../ui/address";
import { Dialog, PageHead, Setting, says, Text } from "../ui/parts";
import { Time } from "../ui/time";
import { type Choice, takeBack, who } from "./letters";
import { type Edit, type Kept, Repair } from "./repair";
import { RepairAll } from "./repair-all";

const page = 200;
const query = (c: Choice) =>
  Object.entries("cause" in c ? { cause: c.cause } : c.letters)
    .map(([k, v]) => `${k}=${enc(v)}`)
    .join("&");

/** Letters as columns, each of them reachable, and what a person does about one or all of them. */
export function LettersOf(p: { choice: Choice; about?: ReactNode; count?: number | undefined }) {
  const [search, setSearch] = useAddress();
  const go = useNavigate();
  const letters = useInfiniteQuery({
    queryKey: ["dead-letters", "of", query(p.choice)],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      call<Letter[]>(`/api/v1/dead-letters?${query(p.choice)}&limit=${page}${pageParam ? `&after=${pageParam}` : ""}`),
    getNextPageParam: (last) => (last.value.length === page ? last.value.at(-1)?.id : undefined),
  });
  const all = useMemo(() => letters.data?.pages.flatMap((x) => x.value) ?? [], [letters.data]);
  const total = letters.data?.pages[0]?.total ?? p.count ?? all.length;
  // Arrows are faster than the address, which follows.
  const [wanted, setWanted] = useState(search.get("letter") ?? "");
  useEffect(() => {
    if (!wanted) return;
    const t = setTimeout(
      () =>
        setSearch(
          (s) => {
            s.set("letter", wanted);
            return s;
          },
          { replace: true },
        ),
      300,
    );
    return () => clearTimeout(t);
  }, [wanted, setSearch]);
  const index = Math.max(
    0,
    all.findIndex((l) => l.id === wanted),
  );
  const letter = all[index];
  const version = useVersion(letter?.flow ?? "", letter?.version ?? 0);
  const doc = version.data?.document as FlowDocument | undefined;
  const rows = useMemo(() => (doc ? rowsOf(doc) : []), [doc]);
  const [seen, setSeen] = useState({ from: 0, to: 12 });
  const [row, setRow] = useState<number | null>(null);
  const [discarding, setDiscarding] = useState<"this" | "all" | null>(null);
  const [why, setWhy] = useState("");
  const [scope, setScope] = useState<"one" | "all">(total > 1 ? "all" : "one");
  const [edit, setEdit] = useState<Edit>({});
  const [coming, setComing] = useState(false); // the columns show what would happen
  // What was written into a letter's message is still there when one comes back to it.
  const kept = useRef(new Map<string, Kept>());
  const near = index + 20 > all.length || seen.to + 20 > all.length;
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = letters;
  useEffect(() => {
    if (near && hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [near, hasNextPage, isFetchingNextPage, fetchNextPage]);
  const from = Math.max(0, Math.min(seen.from, index));
  const shown = all.slice(from, Math.max(seen.to, index) + 1).slice(0, 40);
  const traces = useQueries({
    queries: shown.map((l) => ({
      queryKey: ["letter-trace", l.id, l.version, coming ? JSON.stringify(edit) : ""],
      staleTime: 30_000,
      queryFn: async () =>
        coming
          ? (await call<Resent[]>("/api/v1/dead-letters/resend", { body: { ids: [l.id], preview: true, ...edit } }))
              .value[0]?.rehearsal
          : get<Rehearsal>(`/api/v1/transactions/${l.transaction}/rehearsal`),
    })),
  });
  if (!letter) return <p className="p-6 text-quiet">{letters.data ? "These letters are gone." : "Loading…"}</p>;
  const trace = new Map(shown.map((l, i) => [l.id, traces[i]?.data]));
  const focus: Focus = {
    row:
      row ??
      Math.max(
        0,
        rows.findIndex((r) => r.key === rowKey(letter.path)),
      ),
    column: index,
  };
  const again = () => queryClient.invalidateQueries({ queryKey: ["dead-letters"] });
  const resend = async (extra: object) => {
    try {
      await call("/api/v1/dead-letters/resend", { body: { ids: [letter.id], by: who(), ...extra } });
      kept.current.delete(letter.id);
      toast.success("It is on its way again", {
        action: { label: "Show", onClick: () => go(`/transactions/${letter.transaction}`) },
      });
      await again();
      return true;
    } catch (e) {
      toast.error(says(e));
      return false;
    }
  };
  const discard = async () => {
    try {
      if (discarding === "all") {
        const { value } = await call<{ id: string }>("/api/v1/repairs", {
          body: { ...p.choice, what: "discard", why, by: who() },
        });
        go(`/dead-letters/repairs/${value.id}`);
      } else {
        await call("/api/v1/dead-letters/discard", { body: { ids: [letter.id], why, by: who() } });
        toast("It is discarded", { action: { label: "Undo", onClick: () => void takeBack([letter.id]) } });
      }
      setDiscarding(null);
      await again();
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
        facts={`${index + 1} of ${total} ${total === 1 ? "letter" : "letters"} of ${letter.flow}`}
      >
        <button
          type="button"
          className="btn"
          onClick={() => go(`/transactions/beside?a=${letter.transaction}`)}
          title="Beside one that came through"
        >
          Why not like that one?
        </button>
        <button
          type="button"
          className="btn"
          onClick={() => setDiscarding(total > 1 && scope === "all" ? "all" : "this")}
        >
          Discard {total > 1 && scope === "all" ? `all ${total}` : ""}…
        </button>
        {total > 1 && (
          <fieldset className="flex" aria-label="What is repaired">
            {(["one", "all"] as const).map((s) => (
              <button
                key={s}
                type="button"
                aria-pressed={scope === s}
                className={`btn ${scope === s ? "!bg-mark font-bold" : ""}`}
                onClick={() => setScope(s)}
              >
                {s === "one" ? "This one" : `All ${total}`}
              </button>
            ))}
          </fieldset>
        )}
      </PageHead>
      {p.about}
      {doc && (
        <Sheet
          label="Dead letters of one cause"
          doc={doc}
          rows={rows}
          focus={focus}
          onFocus={(f) => {
            setRow(f.row);
            const next = all[f.column];
            if (next) setWanted(next.id);
          }}
          onSeen={(a, b) => setSeen((was) => (was.from === a && was.to === b ? was : { from: a, to: b }))}
          onOpen={() => go(`/transactions/${letter.transaction}`)}
          columns={all.map((l) => ({
            key: l.id,
            title: l.reference || l.id.slice(-8),
            sub: l.assignee ? `${l.assignee} looks after it` : <Time at={l.at} />,
            rehearsal: trace.get(l.id),
          }))}
          intakeText={<IntakeSentence intake={doc.intake} />}
          stepsHead={
            <span className="flex items-baseline gap-2">
              Steps, version {letter.version}
              <label className="flex items-center gap-1 font-normal">
                <input type="checkbox" checked={coming} onChange={(e) => setComing(e.target.checked)} /> as it would go
              </label>
            </span>
          }
        />
      )}
      {scope === "all" && total > 1 ? (
        <RepairAll choice={p.choice} total={total} letter={letter} onEdit={setEdit} onBegun={again} />
      ) : (
        <Repair
          key={letter.id}
          letter={letter}
          kept={kept.current}
          onEdit={setEdit}
          onResend={resend}
          onDiscard={() => setDiscarding("this")}
        />
      )}
      <Dialog
        open={discarding !== null}
        onClose={() => setDiscarding(null)}
        title={discarding === "all" ? `Discard ${total} dead letters` : "Discard this dead letter"}
      >
        <p className="mb-2">
          {discarding === "all"
            ? `These messages will not be delivered: ${all
                .slice(0, 8)
                .map((l) => l.reference || l.id.slice(-8))
                .join(", ")}${total > 8 ? ` and ${total - 8} others` : ""}.`
            : `The message ${letter.reference} will not be delivered.`}{" "}
          They stay in the journal, and it can be taken back for a day.
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
