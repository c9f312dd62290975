import type { Word } from "./live.worker";

/** Hears what changes at the server, until it is stopped; "open" is said whenever it may have missed something. */
export function listen(hear: (word: Word) => void): () => void {
  if (typeof SharedWorker === "undefined") return listenAlone(hear);
  let tab: MessagePort | undefined;
  const begin = () => {
    if (tab) return;
    tab = new SharedWorker(new URL("./live.worker.ts", import.meta.url), { type: "module", name: "live" }).port;
    tab.onmessage = (e: MessageEvent<Word>) => hear(e.data);
  };
  const end = () => {
    tab?.postMessage("bye");
    tab?.close();
    tab = undefined;
  };
  begin();
  window.addEventListener("pagehide", end); // the page may be kept, and come back
  window.addEventListener("pageshow", begin);
  return () => {
    window.removeEventListener("pagehide", end);
    window.removeEventListener("pageshow", begin);
    end();
  };
}

/** Where tabs cannot share a worker, each has a stream, while it is looked at. */
function listenAlone(hear: (word: Word) => void): () => void {
  let source: EventSource | undefined;
  const look = () => {
    if (document.hidden) {
      source?.close();
      source = undefined;
    } else if (!source) {
      source = new EventSource("/api/v1/events");
      source.onopen = () => hear({ open: true });
      source.addEventListener("changed", (e) => hear(JSON.parse((e as MessageEvent<string>).data)));
    }
  };
  look();
  document.addEventListener("visibilitychange", look);
  return () => {
    document.removeEventListener("visibilitychange", look);
    source?.close();
  };
}
