// One stream of events for all tabs. A browser opens six connections to a server over
// HTTP/1.1, whatever the tabs are: with a stream each, the seventh tab would wait for ever.

export type Word = { open: true } | { changed: string[] };

const tabs = new Set<MessagePort>();
let open = false;

const tell = (word: Word) => {
  for (const tab of tabs) tab.postMessage(word);
};

let source: EventSource | undefined;

/** Opens the stream, unless it is open: one that was refused, as nobody was signed in, does not come back by itself. */
const begin = () => {
  if (source && source.readyState !== EventSource.CLOSED) return;
  source = new EventSource("/api/v1/events");
  source.onopen = () => {
    open = true;
    tell({ open: true });
  };
  source.onerror = () => {
    open = false;
  };
  source.addEventListener("changed", (e) => tell(JSON.parse((e as MessageEvent<string>).data)));
};

(globalThis as unknown as { onconnect: (e: MessageEvent) => void }).onconnect = (e) => {
  const [tab] = e.ports;
  if (!tab) return;
  tab.onmessage = () => tabs.delete(tab); // it says good-bye
  tabs.add(tab);
  begin();
  if (open) tab.postMessage({ open: true } satisfies Word);
};
