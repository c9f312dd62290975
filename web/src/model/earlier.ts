import type { Entry, Rehearsal, Schemas } from "../api/client";

/** The body as it stood behind an earlier step, and what expressions call it. */
export type Earlier = { name: string; root: string; title: string; body: Schemas["Body"] };

/** What expressions call the body behind a step; intake is the message as it came in. */
export const earlierRoot = (name: string) =>
  /^[A-Za-z_][A-Za-z0-9_]*$/.test(name) ? `bodies.${name}` : `bodies[${JSON.stringify(name)}]`;

/** The bodies behind the steps before one, where they were others than its own. */
export function earlierOf(r: Rehearsal | undefined, entry: Entry | undefined): Earlier[] {
  if (!r || !entry?.earlier?.length) return [];
  const here = r.trace.indexOf(entry);
  return entry.earlier.flatMap((name) => {
    const step = r.trace.slice(0, here).findLast((e) => e.step === name);
    const body = step ? step.after : name === "intake" ? r.intake.body : undefined;
    return body ? [{ name, root: earlierRoot(name), title: step ? `behind ${name}` : "as it came in", body }] : [];
  });
}
