import { toast } from "sonner";
import { call } from "../api/client";
import { queryClient } from "../api/queries";
import { says } from "../ui/parts";

/** Which letters: those of one cause, or what was chosen across causes. */
export type Choice = { cause: string } | { letters: Record<string, string> };

/** Who decides, as they call themselves. */
export const who = () => localStorage.getItem("who") ?? "";

/** Takes discards back. */
export async function takeBack(ids: string[]) {
  try {
    await call("/api/v1/dead-letters/restore", { body: { ids, by: who() } });
    await queryClient.invalidateQueries({ queryKey: ["dead-letters"] });
    toast(ids.length === 1 ? "It is open again" : `${ids.length} are open again`);
  } catch (e) {
    toast.error(says(e));
  }
}
