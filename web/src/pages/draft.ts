import { useCallback, useEffect, useRef, useState } from "react";
import { type Checked, call, type Draft, enc, type Finding, type SampleRehearsal } from "../api/client";
import { queryClient } from "../api/queries";
import type { FlowDocument } from "../model/model";

/** A draft: the document, and its text where a person wrote it as YAML. */
export type Version = { doc: FlowDocument; text: string | null };

/** Keeps a draft at the server: half a second behind the last edit, and when the page is left. */
export function useSaved(name: string, first: Draft, etag: string | null, present: Version) {
  const [flow, setFlow] = useState(first);
  const [notSaved, setNotSaved] = useState<unknown>();
  const [filesKey, setFilesKey] = useState(0); // counts changes to the files
  const tag = useRef(etag);
  const saved = useRef<Version>(present);
  // Saves follow one another, so that each is based on the one before.
  const saving = useRef<Promise<boolean>>(Promise.resolve(true));
  const save = useCallback(
    (v: Version): Promise<boolean> => {
      const one = async () => {
        if (saved.current === v) return true;
        try {
          const { value, etag } = await call<Draft>(`/api/v1/flows/${enc(name)}`, {
            method: "PUT",
            headers: tag.current ? { "If-Match": tag.current } : {},
            ...(v.text === null ? { body: v.doc } : { text: v.text }),
          });
          tag.current = etag;
          saved.current = v;
          setFlow(value);
          setNotSaved(undefined);
          return true;
        } catch (e) {
          setNotSaved(e);
          return false;
        }
      };
      saving.current = saving.current.then(one);
      return saving.current;
    },
    [name],
  );
  const writeFile = async (file: string, content: string | null) => {
    if (!(await save(present))) throw new Error("The draft is not saved, so its files are not either");
    const { etag } = await call(`/api/v1/flows/${enc(name)}/files/${file.split("/").map(enc).join("/")}`, {
      method: content === null ? "DELETE" : "PUT",
      headers: { ...(tag.current ? { "If-Match": tag.current } : {}), "Content-Type": "text/plain" },
      ...(content === null ? {} : { text: content }),
    });
    tag.current = etag;
    setFilesKey((k) => k + 1);
    await queryClient.invalidateQueries({
      predicate: ({ queryKey: [what, flow] }) => flow === name && (what === "files" || what === "lines"),
    });
    setFlow((await call<Draft>(`/api/v1/flows/${enc(name)}`)).value);
  };
  useEffect(() => {
    const t = setTimeout(() => save(present), 500);
    return () => clearTimeout(t);
  }, [present, save]);
  // Whoever leaves the page leaves nothing unsaved behind.
  const latest = useRef(present);
  latest.current = present;
  useEffect(() => {
    const leave = () => {
      save(latest.current);
    };
    window.addEventListener("pagehide", leave);
    return () => {
      window.removeEventListener("pagehide", leave);
      leave();
    };
  }, [save]);
  return { flow, setFlow, notSaved, filesKey, save, writeFile, edited: saved.current !== present };
}

/** What the document does to the samples, and what is wrong with it, computed by the server on every edit. */
export function useFollowed(name: string, first: Draft, present: Version, sampleKey: string, filesKey: number) {
  const [findings, setFindings] = useState<Finding[]>(first.findings);
  const [text, setText] = useState(first.text);
  const [rehearsals, setRehearsals] = useState<SampleRehearsal[]>([]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: sampleKey stands for the samples, filesKey for the files
  useEffect(() => {
    const stop = new AbortController();
    const t = setTimeout(async () => {
      const body = present.text === null ? { body: present.doc } : { text: present.text };
      const base = `/api/v1/flows/${enc(name)}`;
      const [checked, done] = await Promise.allSettled([
        call<Checked>(`${base}/check`, { ...body, method: "POST", signal: stop.signal }),
        call<SampleRehearsal[]>(`${base}/rehearse`, {
          body: { document: present.text ?? present.doc },
          signal: stop.signal,
        }),
      ]);
      if (stop.signal.aborted) return;
      if (checked.status === "fulfilled") {
        setFindings(checked.value.value.findings);
        setText(checked.value.value.text);
      }
      if (done.status === "fulfilled") setRehearsals(done.value.value);
    }, 60);
    return () => {
      clearTimeout(t);
      stop.abort();
    };
  }, [present, sampleKey, filesKey, name]);
  return { findings, setFindings, text, rehearsals };
}
