import { useInfiniteQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { toast } from "sonner";
import { call, get, type Schemas } from "../api/client";
import { useAddress } from "../ui/address";
import { useEndless } from "../ui/endless";
import { Dialog, Empty, PageHead, says, Text, Trouble } from "../ui/parts";
import { useRested } from "../ui/settled";
import { Time } from "../ui/time";

type Line = Schemas["AuditLine"];
const atOnce = 200;

/** Who did what, when and from where; a line is opened to see how it was and what was asked for. */
export default function AuditPage() {
  const [search, setSearch] = useAddress();
  const text = search.get("text") ?? "";
  const rested = useRested(text, 250);
  const [open, setOpen] = useState<Line | null>(null);
  const scroller = useRef<HTMLDivElement>(null);
  const list = useInfiniteQuery({
    queryKey: ["audit", rested],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      get<Line[]>(
        `/api/v1/audit?${new URLSearchParams({ text: rested, before: String(pageParam), limit: String(atOnce) })}`,
      ),
    getNextPageParam: (last) => (last.length < atOnce ? undefined : last.at(-1)?.line),
  });
  const lines = useMemo(() => list.data?.pages.flat() ?? [], [list.data]);
  const { virtual, items } = useEndless(lines.length, 29, scroller, list);
  const verify = async () => {
    try {
      const { value } = await call<Schemas["AuditVerdict"]>("/api/v1/audit/verify", { method: "POST" });
      if (value.faults.length === 0) toast.success(`All ${value.lines} lines are as they were written`);
      else toast.error(value.faults.map((f) => `line ${f.line}: ${f.what}`).join("; "));
    } catch (e) {
      toast.error(says(e));
    }
  };
  return (
    <>
      <PageHead title="Audit" facts="who did what; it only grows, and each line hangs on the one before">
        <div className="w-56">
          <Text
            label="Filter the audit"
            placeholder="who, what, thing or result"
            value={text}
            onChange={(t) => setSearch(t ? { text: t } : {}, { replace: true })}
          />
        </div>
        <a className="btn" href={`/api/v1/audit-export?${new URLSearchParams({ text })}`} download>
          Take away as JSON lines
        </a>
        <button type="button" className="btn" onClick={verify}>
          Verify the chain
        </button>
      </PageHead>
      {list.error && <Trouble error={list.error} />}
      {list.data && lines.length === 0 && <Empty title="Nothing was done yet that fits" />}
      {lines.length > 0 && (
        <div ref={scroller} className="min-h-0 flex-1 overflow-auto px-4 pb-4">
          <div className="audit-row sticky top-0 z-10 bg-paper py-1.5 font-bold text-quiet" aria-hidden="true">
            <span>When</span>
            <span>Who</span>
            <span>What</span>
            <span>On</span>
            <span>Result</span>
            <span>From</span>
          </div>
          <div role="list" aria-label="Audit" style={{ height: virtual.getTotalSize(), position: "relative" }}>
            {items.map((item) => {
              const l = lines[item.index] as Line;
              return (
                <div
                  role="listitem"
                  key={l.line}
                  className="absolute w-full"
                  style={{ height: item.size, transform: `translateY(${item.start}px)` }}
                >
                  <button
                    type="button"
                    className="audit-row w-full border-b border-line text-left hover:bg-sheet"
                    style={{ height: item.size }}
                    onClick={() => setOpen(l)}
                  >
                    <Time at={l.at} withDate />
                    <span className="truncate">{l.who || "the application"}</span>
                    <span className="truncate font-bold">{l.what}</span>
                    <span className="data truncate">{l.thing}</span>
                    <span className={`truncate ${l.result === "done" ? "text-quiet" : "text-dead"}`}>{l.result}</span>
                    <span className="data truncate text-quiet">{l.from}</span>
                  </button>
                </div>
              );
            })}
          </div>
        </div>
      )}
      <Dialog open={open !== null} onClose={() => setOpen(null)} wide title={`Line ${open?.line}: ${open?.what}`}>
        {open && <Whole l={open} />}
      </Dialog>
    </>
  );
}

function Whole({ l }: { l: Line }) {
  const facts: [string, string][] = [
    ["Who", l.who ? `${l.who} (${l.kind})` : "the application"],
    ["From", l.from || "this machine"],
    ["On", l.thing || "nothing by itself"],
    ["Area", l.area || "none"],
    ["Result", l.result],
  ];
  return (
    <>
      <dl className="mb-3 grid grid-cols-[90px_1fr] gap-x-3 gap-y-1">
        <dt className="text-quiet">When</dt>
        <dd>
          <Time at={l.at} withDate />
        </dd>
        {facts.map(([k, v]) => (
          <div key={k} className="contents">
            <dt className="text-quiet">{k}</dt>
            <dd>{v}</dd>
          </div>
        ))}
      </dl>
      <div className="grid gap-4 md:grid-cols-2">
        <Side title="How it was" value={l.before} />
        <Side title="What was asked for" value={l.after} />
      </div>
    </>
  );
}

function Side({ title, value }: { title: string; value: unknown }) {
  const text = typeof value === "object" && value && "document" in value ? value.document : value;
  return (
    <section>
      <h3 className="mb-1">{title}</h3>
      {value === null || value === undefined ? (
        <p className="text-quiet">nothing is kept of it</p>
      ) : (
        <pre className="data max-h-[50vh] overflow-auto border border-line bg-sheet p-2" tabIndex={0}>
          {typeof text === "string" ? text : JSON.stringify(text, null, 2)}
        </pre>
      )}
    </section>
  );
}
