import { useState } from "react";
import { enc } from "../api/client";
import { useAlarmRules } from "../api/queries";
import { Empty, Trouble } from "../ui/parts";
import { EditRule, type Kept } from "./alarm-rule";
import { keep } from "./keep";

/** Whom a rule tells, in words. */
function receivers(rule: Kept["rule"]): string {
  if (!rule.tell?.length) return "stands on this page alone";
  return rule.tell
    .map((t) => {
      const to = t.flow ? `the flow ${t.flow}` : `${t.connection}${t.recipients ? ` (${t.recipients})` : ""}`;
      return t.after ? `${to} after ${t.after}` : to;
    })
    .join(", then ");
}

/** The rules: what is watched, and who is told. */
export function AlarmRules() {
  const rules = useAlarmRules();
  const [open, setOpen] = useState<Kept | "new" | null>(null);
  const set = (r: Kept, off: boolean) =>
    keep(`/api/v1/alarm-rules/${enc(r.name)}`, { ...r.rule, off }, r.revision, () => {});
  if (rules.error) return <Trouble error={rules.error} />;
  return (
    <div className="p-4">
      <button type="button" className="btn mb-3" onClick={() => setOpen("new")}>
        Add a rule
      </button>
      {rules.data?.length === 0 && (
        <Empty title="No rules">
          <p>A rule says what is watched and from when on it rings. It can be tried on the past before it is kept.</p>
        </Empty>
      )}
      <table className="grid-table">
        <tbody>
          {rules.data?.map((r) => (
            <tr key={r.name} className={r.rule.off ? "text-quiet" : ""}>
              <td className="w-8">
                <input
                  type="checkbox"
                  aria-label={`${r.rule.title} is looked at`}
                  checked={!r.rule.off}
                  onChange={(e) => void set(r, !e.target.checked)}
                />
              </td>
              <td>
                <button type="button" className="font-bold hover:underline" onClick={() => setOpen(r)}>
                  {r.rule.title}
                </button>
                <div className="text-quiet">
                  {r.words}
                  {r.rule.of && ` · ${r.rule.of} alone`}
                  {r.by && ` · saved by ${r.by}`}
                </div>
              </td>
              <td>{receivers(r.rule)}</td>
              <td className="text-right text-dead">
                {r.ringing > 0 && (r.ringing === 1 ? "rings" : `${r.ringing} ring`)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {open && <EditRule was={open === "new" ? null : open} onClose={() => setOpen(null)} />}
    </div>
  );
}
