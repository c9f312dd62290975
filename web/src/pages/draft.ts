import { useCallback, useEffect, useRef, useState } from "react";
import { call, type Draft, enc, type Finding, ProblemError, type SampleRehearsal, type Schemas } from "../api/client";
import { queryClient } from "../api/queries";
import type { FlowDocument, Told } from "../model/model";
import type { Meanwhile } from "../sheet/together";

/** A draft: the document, and its text where a person wrote it as YAML. */
export type Version = { doc: FlowDocument; text: string | null; renames?: true }; // renames: a step, and nothing else

// What was refused since somebody else has saved, and what it was made from, until it is decided what becomes of both:
// whoever leaves the page, or loads it again, finds both when they come back.
const unsavedIn = (name: string) => `unsaved ${name}`;

/** What was left unsaved of a flow in this tab. */
export function unsavedOf(name: string): { base: FlowDocument; mine: Version } | null {
  return JSON.parse(sessionStorage.getItem(unsavedIn(name)) ?? "null");
}

/** Keeps a draft at the server: half a second behind the last edit, and when the page is left. */
export function useSaved(name: string, first: Draft, etag: string | null, present: Version, base?: FlowDocument) {
  const [flow, setFlow] = useState(first);
  const [notSaved, setNotSaved] = useState<unknown>();
  const [filesKey, setFilesKey] = useState(0); // counts changes to the files
  // What somebody else has saved.
  const [meanwhile, setMeanwhile] = useState<Meanwhile | null>(
    base ? { base, theirs: first.document as unknown as FlowDocument, etag } : null,
  );
  const tag = useRef(etag);
  const saved = useRef<Version>(present);
  const refused = useRef(false); // the last save, for what is wrong in the document
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
          sessionStorage.removeItem(unsavedIn(name));
          setFlow(value);
          setNotSaved(undefined);
          refused.current = false;
          return true;
        } catch (e) {
          setNotSaved(e);
          refused.current = e instanceof ProblemError && e.status === 422;
          if (e instanceof ProblemError && e.status === 412) await look(v);
          return false;
        }
      };
      const look = async (mine: Version) => {
        try {
          sessionStorage.setItem(unsavedIn(name), JSON.stringify({ base: saved.current.doc, mine }));
          const { value, etag } = await call<Draft>(`/api/v1/flows/${enc(name)}`);
          if (value.document)
            setMeanwhile({ base: saved.current.doc, theirs: value.document as unknown as FlowDocument, etag });
        } catch {
          // it is said already that it was not saved
        }
      };
      saving.current = saving.current.then(one);
      return saving.current;
    },
    [name],
  );
  const writeFile = async (file: string, content: string | null) => {
    // A draft that is refused for what is wrong in it may lack just this file; any other failure keeps its order.
    if (!(await save(present)) && !refused.current)
      throw new Error("The draft is not saved, so its files are not either");
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
    if (meanwhile) return; // until it is decided what becomes of both
    const t = setTimeout(() => save(present), 500);
    return () => clearTimeout(t);
  }, [present, save, meanwhile]);
  // What was decided is decided over what was looked at: where that has changed again, the next save is refused, and
  // it is asked again.
  const together = () => {
    if (!meanwhile) return;
    tag.current = meanwhile.etag;
    saved.current = { doc: meanwhile.theirs, text: null };
    sessionStorage.removeItem(unsavedIn(name));
    setNotSaved(undefined);
    setMeanwhile(null);
  };
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
  return { flow, setFlow, notSaved, filesKey, save, writeFile, edited: saved.current !== present, meanwhile, together };
}

/** What the document does to a sample, cell by cell. */
export type Followed = Schemas["Column"] & Told;

/**
 * What the document does to the samples, and what is wrong with it, computed by the server on every edit: at once,
 * and while it computes the last of the edits that have come meanwhile waits. Of the sample wanted, messages come, too.
 */
export function useFollowed(
  name: string,
  first: Draft,
  present: Version,
  files: number,
  samples: unknown,
  wanted?: string,
) {
  const [findings, setFindings] = useState<Finding[]>(first.findings);
  const [text, setText] = useState(first.text);
  const [columns, setColumns] = useState<Followed[]>([]);
  const [whole, setWhole] = useState<SampleRehearsal>();
  const [unreached, setUnreached] = useState<Schemas["Followed"]["unreached"]>([]);
  const asked = useRef({ name, present, wanted });
  asked.current = { name, present, wanted };
  const have = useRef(new Map<string, Followed>());
  const state = useRef({ busy: false, again: false, gone: false });
  const ask = useCallback(async () => {
    const { name, present, wanted } = asked.current;
    try {
      const { value } = await call<Schemas["Followed"]>(`/api/v1/flows/${enc(name)}/follow`, {
        body: {
          document: present.text ?? present.doc,
          whole: wanted ?? "",
          have: Object.fromEntries([...have.current].map(([sample, c]) => [sample, c.mark])),
        },
      });
      if (state.current.gone) return;
      setFindings(value.findings);
      setText(value.text);
      setUnreached(value.unreached);
      if (!value.columns) return; // it cannot be walked: what it did last stays
      const now = value.columns.flatMap((c) => (c.trace ? (c as Followed) : (have.current.get(c.sample) ?? [])));
      have.current = new Map(now.map((c) => [c.sample, c]));
      setColumns(now);
      if (value.whole) setWhole(value.whole);
    } catch {
      // the page says elsewhere that the application does not answer
    }
  }, []);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the samples and the files are at the server
  useEffect(() => {
    const s = state.current;
    s.again = true;
    if (s.busy) return;
    (async () => {
      s.busy = true;
      while (s.again && !s.gone) {
        s.again = false;
        await ask();
      }
      s.busy = false;
    })();
  }, [present, files, samples, name, wanted, ask]);
  useEffect(() => {
    const s = state.current;
    s.gone = false;
    return () => {
      s.gone = true;
    };
  }, []);
  return { findings, setFindings, text, columns, unreached, whole: whole?.sample === wanted ? whole : undefined };
}
