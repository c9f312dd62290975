import { call, enc, type Sample } from "../api/client";
import { type FlowDocument, rowsOf } from "../model/model";

/**
 * Lets what samples say of steps follow steps that are called otherwise: answers of stand-ins stand under both names,
 * so that undo finds them again, and expected outcomes under the new one.
 */
export async function renameInSamples(flow: string, was: FlowDocument, is: FlowDocument, samples: Sample[]) {
  const before = rowsOf(was);
  const after = rowsOf(is);
  const names = new Map<string, string>(); // ids and paths
  before.forEach((r, i) => {
    const now = after[i];
    if (r.kind !== "step" || now?.kind !== "step") return;
    if (r.key !== now.key) names.set(r.key, now.key);
    if (r.step.id !== now.step.id) names.set(r.step.id, now.step.id);
  });
  // A path of a trace has the numbers of parts in it, which its row has not.
  const renamed = (path: string) => {
    const plain = names.get(path.replace(/\[\d+\]/g, ""));
    if (plain === undefined) return path;
    const numbers = path.match(/\[\d+\]/g) ?? [];
    if (numbers.length === 0) return plain;
    const parts = path.split("/");
    const to = plain.split("/");
    return parts.length === to.length
      ? to.map((t, i) => t + (/\[\d+\]/.exec(parts[i] ?? "")?.[0] ?? "")).join("/")
      : path;
  };
  for (const s of samples) {
    const replies = { ...s.replies };
    for (const [at, reply] of Object.entries(s.replies ?? {})) replies[renamed(at)] = reply;
    const expect = s.expect && {
      ...s.expect,
      outcomes: Object.fromEntries(Object.entries(s.expect.outcomes).map(([k, v]) => [renamed(k), v])),
    };
    if (JSON.stringify([replies, expect]) === JSON.stringify([s.replies ?? {}, s.expect])) continue;
    await call(`/api/v1/flows/${enc(flow)}/samples/${enc(s.name)}`, {
      method: "PUT",
      body: { ...s, replies, ...(expect ? { expect } : {}) },
    });
  }
}
