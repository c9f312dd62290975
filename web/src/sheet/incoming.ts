import { useCallback, useEffect, useRef, useState } from "react";
import { toast } from "sonner";
import { call, enc, get, type Sample, type Transaction } from "../api/client";
import { listen } from "../api/live";
import { queryClient } from "../api/queries";
import { says } from "../ui/parts";

/** Keeps files that are dropped on the page as samples, each under its name. */
export function useDropped(flow: string, names: string[], headers: Record<string, string>) {
  const given = useRef({ names, headers });
  given.current = { names, headers };
  useEffect(() => {
    const files = (e: DragEvent) => [...(e.dataTransfer?.types ?? [])].includes("Files");
    const over = (e: DragEvent) => {
      if (files(e) && !(e.target as Element | null)?.closest?.("[role=dialog], input")) e.preventDefault();
    };
    const drop = async (e: DragEvent) => {
      if (!files(e) || (e.target as Element | null)?.closest?.("[role=dialog], input")) return;
      e.preventDefault();
      const kept: string[] = [];
      for (const f of e.dataTransfer?.files ?? []) {
        const base = f.name.replace(/\.[^.]*$/, "").slice(0, 60) || "dropped";
        let name = base;
        for (let n = 2; [...given.current.names, ...kept].includes(name); n++) name = `${base} ${n}`;
        try {
          const bytes = new Uint8Array(await f.arrayBuffer());
          await call(`/api/v1/flows/${enc(flow)}/samples/${enc(name)}`, {
            method: "PUT",
            body: { name, ...bodyOf(bytes), headers: given.current.headers, params: {}, query: {} },
          });
          kept.push(name);
        } catch (err) {
          toast.error(`${f.name}: ${says(err)}`);
        }
      }
      if (kept.length) toast.success(`Kept as ${kept.length === 1 ? "the sample" : "samples"} ${kept.join(", ")}`);
      await queryClient.invalidateQueries({ queryKey: ["flows", flow, "samples"] });
    };
    window.addEventListener("dragover", over);
    window.addEventListener("drop", drop);
    return () => {
      window.removeEventListener("dragover", over);
      window.removeEventListener("drop", drop);
    };
  }, [flow]);
}

/** Bytes as a sample keeps them: text, or base64 of what is none. */
function bodyOf(bytes: Uint8Array): { body: string } | { base64: string } {
  try {
    return { body: new TextDecoder("utf-8", { fatal: true, ignoreBOM: true }).decode(bytes) };
  } catch {
    return { base64: btoa(Array.from(bytes, (b) => String.fromCharCode(b)).join("")) };
  }
}

/** Waits for the next message that comes to a flow, and keeps it as a sample with what it was answered. */
export function useCatch(flow: string) {
  const [catching, setCatching] = useState(false);
  const last = useRef<string | undefined>(undefined);
  const latest = useCallback(
    async () => (await get<Transaction[]>(`/api/v1/transactions?limit=1&flow=${enc(flow)}`))[0]?.id,
    [flow],
  );
  const begin = async () => {
    try {
      last.current = await latest();
      setCatching(true);
    } catch (e) {
      toast.error(says(e));
    }
  };
  useEffect(() => {
    if (!catching) return;
    let busy = false;
    return listen(async (word) => {
      if (busy || ("changed" in word && !word.changed.includes("transactions"))) return;
      busy = true;
      try {
        const now = await latest();
        if (now && now !== last.current) {
          setCatching(false);
          const { value } = await call<Sample>(`/api/v1/transactions/${now}/sample`, { body: { name: "caught" } });
          await queryClient.invalidateQueries({ queryKey: ["flows", flow, "samples"] });
          toast.success(`A message came, and is the sample ${value.name}`);
        }
      } catch (e) {
        setCatching(false);
        toast.error(says(e));
      }
      busy = false;
    });
  }, [catching, flow, latest]);
  return { catching, begin, stop: () => setCatching(false) };
}
