import { useEffect, useRef } from "react";
import { toast } from "sonner";
import { enc, get, type Sample } from "../api/client";
import { queryClient } from "../api/queries";
import { useHistory } from "../model/edit";
import type { FlowDocument, Place } from "../model/model";
import { renameStep } from "../model/restructure";
import { renameInSamples } from "../sheet/rename";
import { says } from "../ui/parts";
import type { Version } from "./draft";

/** A draft with undo and redo, by keys as well; samples follow a step that is called otherwise, there and back. */
export function useDraftHistory(name: string, first: Version) {
  const { present, before, after, change, rebase, ...back } = useHistory<Version>(name, first, (v) => v.doc);
  // One after the other, over the samples as they are by then: an undo may come before what it undoes is kept.
  const line = useRef(Promise.resolve());
  const following = (was: FlowDocument, is: FlowDocument) => {
    line.current = line.current.then(async () => {
      try {
        await renameInSamples(name, was, is, await get<Sample[]>(`/api/v1/flows/${enc(name)}/samples`));
      } catch (e) {
        toast.error(says(e));
      }
      await queryClient.invalidateQueries({ queryKey: ["flows", name, "samples"] });
    });
    return line.current;
  };
  const undo = () => {
    back.undo();
    if (present.renames && before) void following(present.doc, before.doc);
  };
  const redo = () => {
    back.redo();
    if (after?.renames) void following(present.doc, after.doc);
  };
  const keys = useRef({ undo, redo });
  keys.current = { undo, redo };
  useEffect(() => {
    const onUndo = (e: KeyboardEvent) => {
      if (!(e.ctrlKey || e.metaKey)) return;
      const yaml = (e.target as HTMLElement | null)?.closest("[data-own-undo]");
      const key = e.key.toLowerCase();
      if (yaml || (key !== "z" && key !== "y")) return;
      e.preventDefault();
      if (key === "y" || e.shiftKey) keys.current.redo();
      else keys.current.undo();
    };
    window.addEventListener("keydown", onUndo, true);
    return () => window.removeEventListener("keydown", onUndo, true);
  }, []);
  const rename = async (place: Place, id: string) => {
    const next = renameStep(present.doc, place, id);
    change({ doc: next, text: null, renames: true });
    await following(present.doc, next);
  };
  return { present, change, rebase, undo, redo, rename, canUndo: back.canUndo, canRedo: back.canRedo };
}
