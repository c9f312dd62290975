import { useEffect, useState } from "react";
import { Link } from "react-router";
import type { Cause } from "../api/client";
import { useCauses, useFlows } from "../api/queries";
import { useAddress } from "../ui/address";
import { Empty, PageHead, Trouble } from "../ui/parts";
import { age, span, Time, useNow } from "../ui/time";
import type { Choice } from "./letters";
import { LettersOf } from "./letters-of";

const classTone: Record<string, string> = {
  data: "bg-loss text-dead",
  target: "bg-change text-wait",
  flow: "bg-mark text-deep",
  limit: "bg-change text-ink",
};

/** What is chosen across causes, as it stands in the address. */
const across = ["flow", "class", "reason", "reference", "assignee"] as const;

export function DeadLettersPage() {
  const [search, setSearch] = useAddress();
  const causes = useCauses();
  const now = useNow(5000);
  const chosen = Object.fromEntries(across.flatMap((k) => (search.get(k) ? [[k, search.get(k) as string]] : [])));
  const filtered = Object.keys(chosen).length > 0;
  const cause = filtered ? "" : (search.get("cause") ?? causes.data?.[0]?.cause ?? "");
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
        <PageHead title="Dead letters">
          <Link className="btn" to="/dead-letters/repairs">
            Repairs
          </Link>
        </PageHead>
        <Empty title="No dead letters">
          <p>
            A message that no step could work on, or no target would take, comes here and stays until a person resends
            or discards it. What was discarded can be taken back for a day:{" "}
            <Link className="underline" to="/dead-letters/closed">
              letters that are closed
            </Link>
            .
          </p>
        </Empty>
      </>
    );
  }
  const one = causes.data?.find((c) => c.cause === cause);
  const choice: Choice | null = filtered ? { letters: chosen } : cause ? { cause } : null;
  return (
    <div className="grid min-h-0 flex-1 grid-cols-[minmax(260px,26vw)_1fr]">
      <aside aria-label="Causes" className="overflow-auto border-r-2 border-deep">
        <div className="border-b border-line px-4 py-3">
          <h1>
            {total} {total === 1 ? "dead letter" : "dead letters"}, {causes.data?.length ?? 0}{" "}
            {causes.data?.length === 1 ? "cause" : "causes"}
          </h1>
          {oldest && <p className="text-quiet">Oldest has waited {span(now - oldest)}</p>}
          <p className="mt-1 flex gap-3">
            <Link className="underline" to="/dead-letters/repairs">
              Repairs
            </Link>
            <Link className="underline" to="/dead-letters/closed">
              Closed letters
            </Link>
          </p>
        </div>
        <Across chosen={chosen} onChoose={(next) => setSearch(next)} />
        {causes.data?.map((c) => (
          <button
            key={c.cause}
            type="button"
            aria-current={c.cause === cause}
            className={`flex w-full gap-3 border-b border-line px-4 py-3 text-left hover:bg-mark ${c.cause === cause ? "bg-sheet shadow-[inset_4px_0_var(--color-dead)]" : ""}`}
            onClick={() => setSearch({ cause: c.cause })}
          >
            <span className="min-w-0 flex-1">
              <b className="line-clamp-2" title={c.text}>
                {c.text}
              </b>
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
      {choice && (
        <LettersOf
          key={JSON.stringify(choice)}
          choice={choice}
          about={one && <Evidence cause={one} />}
          count={one?.count}
        />
      )}
    </div>
  );
}

/** Why a cause is laid to the message, the flow, the target or a limit. */
function Evidence({ cause }: { cause: Cause }) {
  return (
    <p className="border-b border-line bg-sheet px-4 py-1.5 text-quiet" data-testid="evidence">
      <span className={`mr-1.5 rounded-[2px] px-1.5 text-[12px] font-semibold ${classTone[cause.class]}`}>
        {cause.class}
      </span>
      {cause.why.length > 0 ? cause.why.join("; ") : "nothing else is known that would speak for or against it"}
    </p>
  );
}

/** Chooses letters across causes. */
function Across(p: { chosen: Record<string, string>; onChoose: (next: Record<string, string>) => void }) {
  const flows = useFlows();
  const [reason, setReason] = useState(p.chosen.reason ?? "");
  const set = (k: string, v: string) => {
    const { [k]: _, ...rest } = p.chosen;
    p.onChoose(v ? { ...rest, [k]: v } : rest);
  };
  return (
    <form
      aria-label="Across causes"
      className="flex flex-wrap gap-2 border-b border-line px-4 py-2"
      onSubmit={(e) => {
        e.preventDefault();
        set("reason", reason.trim());
      }}
    >
      <select
        aria-label="Flow"
        className="field min-w-0 flex-1"
        value={p.chosen.flow ?? ""}
        onChange={(e) => set("flow", e.target.value)}
      >
        <option value="">by cause</option>
        {flows.data?.map((f) => (
          <option key={f.name} value={f.name}>
            all of {f.title || f.name}
          </option>
        ))}
      </select>
      <input
        aria-label="Words of the reason"
        className="field min-w-0 flex-1"
        placeholder="words of the reason"
        value={reason}
        onChange={(e) => setReason(e.target.value)}
        onBlur={() => set("reason", reason.trim())}
      />
      {Object.keys(p.chosen).length > 0 && (
        <button type="button" className="btn-bare" onClick={() => p.onChoose({})}>
          by cause again
        </button>
      )}
    </form>
  );
}
