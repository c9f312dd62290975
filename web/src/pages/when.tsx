import { useState } from "react";
import { Dialog, Setting } from "../ui/parts";

/** How a version goes live, where that is not at once and for all. */
export type How = { at?: string; share?: number };

/** Asks when a version goes live, or of how many messages it takes one. */
export function WhenDialog(p: {
  what: "at" | "share" | null;
  version: number;
  /** Messages of one order value go through the same version. */
  ordered: boolean;
  onClose: () => void;
  onGo: (how: How) => void;
}) {
  const [at, setAt] = useState("");
  const [share, setShare] = useState("20");
  const passed = at !== "" && new Date(at).getTime() <= Date.now();
  const n = Number(share);
  const bad = !Number.isInteger(n) || n < 2 || n > 10_000;
  const ready = p.what === "at" ? at !== "" && !passed : !bad;
  const go = () => ready && p.onGo(p.what === "at" ? { at: new Date(at).toISOString() } : { share: n });
  return (
    <Dialog
      open={p.what !== null}
      onClose={p.onClose}
      title={p.what === "at" ? `Version ${p.version} at a time` : `Version ${p.version} for a share of messages first`}
    >
      <form
        onSubmit={(e) => {
          e.preventDefault();
          go();
        }}
      >
        {p.what === "at" ? (
          <Setting
            label="It goes live at"
            error={passed ? "that has passed" : undefined}
            hint="As it is now; what is changed behind that is not in it. It can be called off until then."
          >
            <input
              type="datetime-local"
              aria-label="It goes live at"
              className="field"
              value={at}
              onChange={(e) => setAt(e.target.value)}
            />
          </Setting>
        ) : (
          <Setting
            label="It takes one message in"
            error={bad ? "a whole number from 2 to 10,000" : undefined}
            hint={
              p.ordered
                ? "All messages of one order value go through the same version; the rest stays on the live one."
                : "The intake has no order value, so each message goes by itself; the rest stays on the live version."
            }
          >
            <input
              aria-label="It takes one message in"
              className="field"
              inputMode="numeric"
              value={share}
              aria-invalid={bad || undefined}
              onChange={(e) => setShare(e.target.value)}
            />
          </Setting>
        )}
        <button type="submit" className="btn btn-go" disabled={!ready}>
          {p.what === "at" ? "Plan it" : "Begin"}
        </button>
      </form>
    </Dialog>
  );
}
