import { toast } from "sonner";
import { call, enc } from "../api/client";
import { says } from "../ui/parts";

/** Kinds of intake to which nothing can be sent. */
export const unsent = ["schedule", "poll", "table", "load", "subflow"];

/** Sends the sample that is shown to where the live flow's messages come from. */
export function SendSample({ flow, sample }: { flow: string; sample: string }) {
  const send = async () => {
    try {
      const { value } = await call<{ said: string }>(`/api/v1/flows/${enc(flow)}/samples/${enc(sample)}/send`, {
        method: "POST",
      });
      toast.success(value.said);
    } catch (e) {
      toast.error(says(e));
    }
  };
  return (
    <button
      type="button"
      className="btn-bare shrink-0"
      title="sends this sample, as it stands, to where the messages of the live version come from"
      onClick={send}
    >
      send it
    </button>
  );
}
