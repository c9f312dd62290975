import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { toast } from "sonner";
import { call, enc, get, type Schemas } from "../api/client";
import { queryClient } from "../api/queries";
import { Dialog, says } from "../ui/parts";
import { number } from "../ui/time";

type Filter = Schemas["TransactionFilter"];

/** A day and a minute, as short as they can be. */
export const moment = (iso: string) =>
  new Date(iso).toLocaleString(undefined, { month: "short", day: "numeric", hour: "2-digit", minute: "2-digit" });

/** Filters in words, with what can stand next; what is typed counts when one rests, or with Enter. */
export function FilterBox({ value, onChange }: { value: string; onChange: (v: string) => void }) {
  const [text, setText] = useState(value);
  const [open, setOpen] = useState(false);
  const [at, setAt] = useState(0);
  const box = useRef<HTMLInputElement>(null);
  const filters = useQuery({
    queryKey: ["flows", "filters"],
    queryFn: () => get<Filter[]>("/api/v1/transaction-filters"),
  });
  // What was said comes back as the value, perhaps late: whoever has typed on meanwhile goes on from there.
  const said = useRef<string[]>([]);
  const say = useCallback(
    (next: string) => {
      said.current.push(next);
      onChange(next);
    },
    [onChange],
  );
  useEffect(() => {
    const i = said.current.indexOf(value);
    if (i < 0) setText(value);
    said.current = i < 0 ? [] : said.current.slice(i + 1);
  }, [value]);
  useEffect(() => {
    if (text === value) return;
    const t = setTimeout(() => say(text), 350);
    return () => clearTimeout(t);
  }, [text, value, say]);
  const last = /(\S*)$/.exec(text)?.[1] ?? "";
  const offers = offersOf(last, filters.data ?? []);
  const take = (o: string) => {
    const next = text.slice(0, text.length - last.length) + o;
    setText(o.endsWith(":") ? next : `${next} `);
    setAt(0);
    box.current?.focus();
  };
  return (
    <div className="relative w-80">
      <input
        ref={box}
        role="combobox"
        aria-label="Filter"
        aria-expanded={open && offers.length > 0}
        aria-controls="filter-offers"
        className="field data"
        placeholder="state:waiting tries:>2, or words"
        value={text}
        spellCheck={false}
        onChange={(e) => {
          setText(e.target.value);
          setOpen(true);
          setAt(0);
        }}
        onFocus={() => setOpen(true)}
        onBlur={() => setOpen(false)}
        onKeyDown={(e) => {
          if (e.key === "Escape") setOpen(false);
          if (!open || offers.length === 0) {
            if (e.key === "Enter") say(text);
            return;
          }
          if (e.key === "ArrowDown" || e.key === "ArrowUp") {
            e.preventDefault();
            setAt((at + (e.key === "ArrowDown" ? 1 : offers.length - 1)) % offers.length);
          }
          if (e.key === "Tab" && last !== "") {
            e.preventDefault();
            take(offers[at]?.value ?? "");
          }
          if (e.key === "Enter") {
            setOpen(false);
            say(text);
          }
        }}
      />
      {open && offers.length > 0 && (
        <div
          id="filter-offers"
          role="listbox"
          aria-label="Filters"
          className="absolute z-30 max-h-72 w-96 overflow-auto border border-line bg-sheet"
        >
          {offers.map((o, i) => (
            <div
              key={o.value}
              role="option"
              tabIndex={-1}
              aria-selected={i === at}
              className={`flex cursor-pointer gap-2 px-2 py-1 ${i === at ? "bg-mark" : ""}`}
              onPointerDown={(e) => e.preventDefault()}
              onClick={() => take(o.value)}
            >
              <span className="data font-bold">{o.value}</span>
              <span className="min-w-0 truncate text-quiet">{o.takes}</span>
            </div>
          ))}
        </div>
      )}
    </div>
  );
}

function offersOf(last: string, filters: Filter[]): { value: string; takes: string }[] {
  const not = last.startsWith("-") ? "-" : "";
  const word = last.slice(not.length);
  const colon = word.indexOf(":");
  if (colon < 0)
    return filters
      .filter((f) => f.name.startsWith(word.toLowerCase()))
      .map((f) => ({ value: `${not}${f.name}:`, takes: f.takes }));
  const f = filters.find((x) => x.name === word.slice(0, colon).toLowerCase());
  const begins = word.slice(colon + 1).toLowerCase();
  return (f?.values ?? [])
    .filter((v) => v.toLowerCase().startsWith(begins) && v !== begins)
    .slice(0, 30)
    .map((v) => ({ value: `${not}${f?.name}:${v}`, takes: "" }));
}

/** Lists that were given a name, and giving one to this. */
export function Views({ search, onOpen }: { search: string; onOpen: (query: string) => void }) {
  const views = useQuery({ queryKey: ["views"], queryFn: () => get<Schemas["SavedView"][]>("/api/v1/views") });
  const [naming, setNaming] = useState(false);
  const [name, setName] = useState("");
  const again = () => queryClient.invalidateQueries({ queryKey: ["views"] });
  const keep = async () => {
    try {
      await call(`/api/v1/views/${enc(name.trim())}`, {
        method: "PUT",
        body: { filter: search, by: localStorage.getItem("who") ?? "" },
      });
      setNaming(false);
      await again();
    } catch (e) {
      toast.error(says(e));
    }
  };
  const mine = views.data?.find((v) => v.filter === search);
  return (
    <>
      <select
        aria-label="Saved views"
        className="field !w-40"
        value={mine?.name ?? ""}
        onChange={(e) => {
          const v = views.data?.find((x) => x.name === e.target.value);
          if (e.target.value === " keep") setNaming(true);
          else if (e.target.value === " drop" && mine)
            void call(`/api/v1/views/${enc(mine.name)}`, { method: "DELETE" }).then(again, (err) =>
              toast.error(says(err)),
            );
          else onOpen(v?.filter ?? "");
        }}
      >
        <option value="">saved views</option>
        {views.data?.map((v) => (
          <option key={v.name} value={v.name}>
            {v.name}
          </option>
        ))}
        <option value=" keep">keep this one…</option>
        {mine && <option value=" drop">forget “{mine.name}”</option>}
      </select>
      <Dialog open={naming} onClose={() => setNaming(false)} title="Keep this view">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            void keep();
          }}
        >
          <input
            aria-label="Name of the view"
            className="field mb-3"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <button type="submit" className="btn btn-go" disabled={name.trim() === ""}>
            Keep
          </button>
        </form>
      </Dialog>
    </>
  );
}

/** What the list finds, as a file; it says how far it is, and can be stopped. */
export function Export({ filter }: { filter: string }) {
  const [lines, setLines] = useState<number | null>(null);
  const [total, setTotal] = useState<number | null>(null);
  const stop = useRef<AbortController | null>(null);
  const take = async (format: "csv" | "jsonl") => {
    const abort = new AbortController();
    stop.current = abort;
    setLines(0);
    try {
      const res = await fetch(`/api/v1/transaction-export?${filter}&format=${format}`, { signal: abort.signal });
      if (!res.ok || !res.body) throw new Error((await res.json()).detail ?? `the server answered ${res.status}`);
      setTotal(res.headers.get("Total-Count") === null ? null : Number(res.headers.get("Total-Count")));
      const parts: BlobPart[] = [];
      let seen = 0;
      const reader = res.body.getReader();
      for (;;) {
        const { done, value } = await reader.read();
        if (done) break;
        parts.push(value as BlobPart);
        for (const b of value) if (b === 10) seen++;
        setLines(seen);
      }
      const a = document.createElement("a");
      a.href = URL.createObjectURL(new Blob(parts));
      a.download = `transactions.${format}`;
      a.click();
      URL.revokeObjectURL(a.href);
    } catch (e) {
      if (!abort.signal.aborted) toast.error(says(e));
    }
    setLines(null);
  };
  if (lines !== null)
    return (
      <span>
        {number(lines)}
        {total !== null && ` of ${number(total)}`} lines{" "}
        <button type="button" className="btn-bare" onClick={() => stop.current?.abort()}>
          stop
        </button>
      </span>
    );
  return (
    <span className="flex gap-2">
      <button type="button" className="btn-bare" onClick={() => void take("csv")}>
        as CSV
      </button>
      <button type="button" className="btn-bare" onClick={() => void take("jsonl")}>
        as JSON lines
      </button>
    </span>
  );
}
