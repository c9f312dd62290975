import { useState } from "react";
import { useNavigate } from "react-router";
import { toast } from "sonner";
import { call, enc, get } from "../api/client";
import { queryClient, useVersions } from "../api/queries";
import type { FlowDocument } from "../model/model";
import { Dialog, says } from "../ui/parts";
import { Time } from "../ui/time";

type Props = {
  flow: string;
  live: number;
  open: boolean;
  onClose: () => void;
  /** Takes an earlier version into the draft. */
  onTake: (doc: FlowDocument, text: string) => void;
};

/** What was published when; an earlier version can be taken into the draft, and the flow removed. */
export function Versions({ flow, live, open, onClose, onTake }: Props) {
  const versions = useVersions(flow);
  const [removing, setRemoving] = useState(false);
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
  const remove = async () => {
    try {
      await call(`/api/v1/flows/${enc(flow)}`, { method: "DELETE" });
      await queryClient.invalidateQueries();
      go("/flows");
    } catch (e) {
      toast.error(says(e));
    }
  };
  return (
    <Dialog open={open} onClose={onClose} title={`Versions of ${flow}`}>
      {versions.data?.length === 0 && <p className="text-quiet">It was never published. Publish makes version 1.</p>}
      <ol>
        {versions.data?.map((v) => (
          <li key={v.version} className="flex items-center gap-3 border-b border-line py-1.5">
            <b className="w-24">version {v.version}</b>
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
          </li>
        ))}
      </ol>
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
