import { toast } from "sonner";
import { call, ProblemError } from "../api/client";
import { queryClient } from "../api/queries";
import { says } from "../ui/parts";

/** Runs a change of what stands under Alarms; onDone is called where it succeeded, and what went wrong is said. */
async function change(path: string, options: Parameters<typeof call>[1], onDone: () => void): Promise<void> {
  try {
    await call(path, options);
    await queryClient.invalidateQueries({ queryKey: ["alarms"] });
    onDone();
  } catch (e) {
    toast.error(
      e instanceof ProblemError && e.status === 412
        ? "There is one of this name, or somebody changed it: close this and open it again."
        : says(e),
    );
  }
}

/** Keeps a document, over the revision that was seen; over none where it is new. */
export const keep = (path: string, body: object, revision: number | undefined, onDone: () => void) =>
  change(
    path,
    {
      method: "PUT",
      body,
      headers: revision === undefined ? { "If-None-Match": "*" } : { "If-Match": `"${revision}"` },
    },
    onDone,
  );

/** Removes one. */
export const drop = (path: string, onDone: () => void) => change(path, { method: "DELETE" }, onDone);
