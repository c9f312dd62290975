import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { toast } from "sonner";
import { call, enc, get, ProblemError } from "../api/client";
import { queryClient, useVersion, useVersions } from "../api/queries";
import { changesOf } from "../model/changes";
import type { FlowDocument } from "../model/model";
import { Dialog, Select, says } from "../ui/parts";
import { Time } from "../ui/time";
import { Changes } from "./changes";

type Props = {
  flow: string;
  live: number;
  /** The draft as it stands on the sheet. */
  doc: FlowDocument;
  open: boolean;
  onClose: () => void;
  /** Takes an earlier version into the draft. */
  onTake: (doc: FlowDocument, text: string) => void;
  /** Another version is live. */
  onLive: () => void;
};

/** What was published when and by whom, what lies between any two, and which is at work. */
export function Versions({ flow, live, doc, open, onClose, onTake, onLive }: Props) {
  const versions = useVersions(flow);
  const [removing, setRemoving] = useState(false);
  const [sure, setSure] = useState<{ version: number; why: string }>();
  const go = useNavigate();
  const take = async (n: number) => {
    try {
      const v = await get<{ document: FlowDocument | null; text: string }>(`/api/v1/flows/${enc(flow)}/versions/${n}`);
      if (!v.document) return;
      onTake(v.document, v.text);
      onClose();
      toast(`The draft is version ${n} again; undo takes it back`);
    } catch (e) {
      toast.error(says(e));
    }
  };
  const putToWork = async (version: number, query = "") => {
    try {
      const by = localStorage.getItem("who") ?? "";
      await call(`/api/v1/flows/${enc(flow)}/live${query}`, { body: { version, by } });
      await queryClient.invalidateQueries({ queryKey: ["flows"] });
      setSure(undefined);
      onLive();
      toast.success(`Version ${version} is live; the draft stays as it is`);
    } catch (e) {
      if (e instanceof ProblemError && e.status === 409) setSure({ version, why: e.detail });
      else toast.error(says(e));
    }
  };
  const remove = async () => {
    try {
      await call(`/api/v1/flows/${enc(flow)}`, { method: "DELETE" });
      await queryClient.invalidateQueries();
      go("/flows");
    } catch (e) {
      toast.error(says(e));
    }
  };
  const list = versions.data ?? [];
  const before = list.find((v) => v.version < live);
  return (
    <Dialog open={open} onClose={onClose} title={`Versions of ${flow}`} wide>
      {versions.data?.length === 0 && <p className="text-quiet">It was never published. Publish makes version 1.</p>}
      {before && (
        <p className="mb-2">
          <button type="button" className="btn" onClick={() => putToWork(before.version)}>
            {`One step back: put version ${before.version} to work`}
          </button>
        </p>
      )}
      {sure && (
        <div role="alert" className="mb-2 border-l-4 border-dead bg-loss px-3 py-2">
          <p>{sure.why}</p>
          <button type="button" className="btn" onClick={() => putToWork(sure.version, "?sure=true")}>
            Put it to work all the same
          </button>
        </div>
      )}
      <ol>
        {list.map((v) => (
          <li key={v.version} className="flex items-center gap-3 border-b border-line py-1.5">
            <b className="w-24 shrink-0">version {v.version}</b>
            <span className="min-w-0 flex-1 text-quiet">
              <Time at={v.publishedAt} withDate />
              {v.by && `, by ${v.by}`}
              {v.version === live && ", live"}
              {v.note && <span className="block text-ink">{v.note}</span>}
              {v.despite && <span className="block text-dead">though samples were not as expected: {v.despite}</span>}
            </span>
            <button type="button" className="btn-bare" onClick={() => take(v.version)}>
              take into the draft
            </button>
            <button
              type="button"
              className="btn-bare"
              disabled={v.version === live}
              onClick={() => putToWork(v.version)}
            >
              put to work
            </button>
          </li>
        ))}
      </ol>
      {list.length > 0 && <Between flow={flow} numbers={list.map((v) => v.version)} live={live} doc={doc} />}
      {open && list.length > 0 && <Events flow={flow} />}
      <div className="mt-5 border-t border-line pt-3">
        {removing ? (
          <>
            <p className="mb-2">
              The draft and all samples of {flow} will be lost, and its address will answer nobody. What it has done
              stays under Transactions. This cannot be undone.
            </p>
            <button type="button" className="btn btn-go" onClick={remove}>
              Remove the flow
            </button>{" "}
            <button type="button" className="btn" onClick={() => setRemoving(false)}>
              Keep it
            </button>
          </>
        ) : (
          <button type="button" className="btn" onClick={() => setRemoving(true)}>
            Remove this flow…
          </button>
        )}
      </div>
    </Dialog>
  );
}

/** What differs between any two versions, or a version and the draft. */
function Between({ flow, numbers, live, doc }: { flow: string; numbers: number[]; live: number; doc: FlowDocument }) {
  const [from, setFrom] = useState(String(live || numbers[0]));
  const [to, setTo] = useState("draft");
  const was = useVersion(flow, Number(from));
  const is = useVersion(to === "draft" ? "" : flow, to === "draft" ? 0 : Number(to));
  const changes = useMemo(() => {
    const a = was.data?.document as unknown as FlowDocument | undefined;
    const b = to === "draft" ? doc : (is.data?.document as unknown as FlowDocument | undefined);
    return a && b ? changesOf(a, b) : null;
  }, [was.data, is.data, doc, to]);
  const options = numbers.map((n): [string, string] => [String(n), `version ${n}`]);
  return (
    <section className="mt-5" aria-label="What differs">
      <div className="mb-2 flex items-center gap-2">
        <h3 className="font-bold">From</h3>
        <span className="w-36">
          <Select label="From version" value={from} onChange={setFrom} options={options} />
        </span>
        to
        <span className="w-36">
          <Select label="To version" value={to} onChange={setTo} options={[["draft", "the draft"], ...options]} />
        </span>
      </div>
      <div className="space-y-1.5" data-testid="between">
        {changes ? <Changes {...changes} /> : <p className="text-quiet">…</p>}
      </div>
    </section>
  );
}

const said: Record<string, string> = {
  live: "went live",
  planned: "was planned",
  share: "began for a share",
  revoked: "was taken back",
};

type Event = { version: number; at: string; by: string; what: string; note: string };

/** What became of the versions. */
function Events({ flow }: { flow: string }) {
  const events = useQuery({
    queryKey: ["flows", flow, "version-events"],
    queryFn: () => get<Event[]>(`/api/v1/flows/${enc(flow)}/version-events`),
  });
  if (!events.data?.length) return null;
  return (
    <details className="mt-4">
      <summary className="cursor-pointer font-bold">What became of them</summary>
      <ol className="mt-1">
        {events.data.map((e) => (
          <li key={e.at + e.version + e.what}>
            <span className="text-quiet">
              <Time at={e.at} withDate />
            </span>{" "}
            {`version ${e.version} ${said[e.what] ?? e.what}${e.by ? `, ${e.by}` : ""}${e.note ? `: ${e.note}` : ""}`}
          </li>
        ))}
      </ol>
    </details>
  );
}
