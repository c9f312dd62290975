import { useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState } from "react";
import { call, enc } from "../../api/client";
import { useTables } from "../../api/queries";
import { insertAtCursor } from "../../ui/caret";
import { pointerOf } from "../../ui/tree";
import { errorAt, type FormProps, withSetting } from "../kit";
import { Bar } from "./bar";
import { Below } from "./below";
import { carry, linesOf, textOf, withLines } from "./carry";
import {
  type At,
  edited,
  fieldAt,
  isGroup,
  isLoop,
  type Loop,
  type MapField,
  moved,
  type Row,
  removed,
  rowsOf,
} from "./fields";
import { filled, inserted } from "./filling";
import { LikeNames } from "./like-names";
import { itemSources, likeliest, loopCompletions, outside, placeFor, within } from "./paths";
import { TargetRow } from "./row";
import { likeExample, ShapeDialog } from "./shape";
import { seenAt, useConditions, useEarlier, useLines, useSources, useWords } from "./use-map";

/** How many lines are shown before those that nothing writes fold into one. */
const unfolded = 40;

/** Whether somebody types there. */
const inField = (at: EventTarget) => !!(at as HTMLElement).closest("input, select, textarea, .cm-editor");

/** A document that a map writes, line by line: its value here, and where it comes from in words. */
export function Target(p: FormProps & { within?: boolean }) {
  const fields = (p.step.fields ?? []) as MapField[];
  const as = String(p.step.as ?? p.usual("as"));
  const { lines, error } = useLines(p.names.flow, p.step);
  const rows = useMemo(() => rowsOf(fields, lines, as), [fields, lines, as]);
  const sources = useSources(p.entry);
  const past = useEarlier(p.earlier);
  const [armed, setArmed] = useState<string | null>(null);
  const [open, setOpen] = useState<string | null>(null);
  const [all, setAll] = useState(false);
  const [find, setFind] = useState("");
  const [choosing, setChoosing] = useState<{ key: string; begins: string } | null>(null);
  const [shaping, setShaping] = useState(false);
  const [liking, setLiking] = useState(false);
  const box = useRef<HTMLDivElement>(null);
  const words = useWords(
    rows.flatMap((r) => [r.field?.from, r.field?.each, r.field?.sort].filter((e) => e !== undefined)),
  );
  const conditions = useConditions(rows.flatMap((r) => [r.field?.when, r.field?.where].filter((e) => e !== undefined)));
  const files = useQuery({
    queryKey: ["files", p.names.flow],
    queryFn: async () => (await call<Record<string, string>>(`/api/v1/flows/${enc(p.names.flow)}/files`)).value,
    enabled: shaping,
  });
  const known = useTables();
  const tables = useMemo(
    () =>
      (known.data ?? []).map((t) => ({ name: t.name, columns: (t.document as { columns?: string[] }).columns ?? [] })),
    [known.data],
  );
  const byName = useMemo(() => Object.fromEntries(tables.map((t) => [t.name, t.columns])), [tables]);
  const header = as === "csv" || p.entry?.before?.tree?.startsWith("[{") === true;
  const seen = useMemo(() => seenAt(p.entry, p.earlier, p.headers, header), [p.entry, p.earlier, p.headers, header]);

  const put = (next: MapField[], mark: string) => p.change(withSetting(p.step, "fields", next), mark);
  const insert = (at: At, f: MapField) => inserted(fields, at, f);
  const arm = (key: string | null) => {
    setArmed(key);
    p.onPicked?.(null);
  };
  const values = (r: Row) =>
    p.entry?.fields?.find((x) => x.to === (r.field && isLoop(r.field) ? `${r.path}[]` : r.path));

  /** Puts what is picked into a row, and goes on to the next one that nothing writes. */
  const fill = (r: Row, path: string) => {
    const done = filled(r, path, { fields, lines, as, sources });
    if (!done) return;
    put(done.fields, "");
    arm(done.next);
  };

  // A click on a value before the step goes to the armed row, else it is picked until a row is chosen;
  // where nothing is known of the target it makes a line of its own.
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is armed and written is all that matters
  useEffect(() => {
    p.onFill((path) => {
      const r = rows.find((x) => x.key === armed);
      const typing = document.activeElement?.closest(".cm-editor");
      if (typing && insertAtCursor(within(path, r?.loops ?? []))) return;
      if (r) return fill(r, path);
      if (lines.length > 0) return p.onPicked?.(p.picked === path ? null : path);
      let to = placeFor(as, path, false);
      for (let n = 2; to && fields.some((f) => f.to === to); n++) to = `${placeFor(as, path, false)}${n}`;
      put(insert([fields.length], { to, from: path }), "");
    });
  }, [armed, p.step, lines, p.picked, rows, sources]);

  // The values of the message before that each line uses; of a loop's items those of the first.
  const uses = useMemo(
    () =>
      new Map(
        rows.map((r) => {
          const e = r.field?.from ?? r.field?.each;
          return [r.key, e === undefined ? [] : (words[e]?.sources ?? [e]).map((s) => outside(s, r.loops))];
        }),
      ),
    [rows, words],
  );
  // biome-ignore lint/correctness/useExhaustiveDependencies: only what is written changes what is marked
  useEffect(() => p.onMapped?.([...uses.values()].flat()), [uses]);
  const isLooked = (r: Row) =>
    !!p.looked && !!uses.get(r.key)?.some((e) => e === p.looked || pointerOf(e) === p.looked);

  const wanted = find.trim().toLowerCase();
  const value = (r: Row) => values(r)?.value ?? "";
  const stays = (r: Row) => !!r.field || r.line?.required || r.key === armed || (r.line?.list && r.depth === 0);
  let room = unfolded - rows.filter(stays).length; // for lines that nothing writes yet, the first ones
  const kept = rows.filter((r) =>
    wanted
      ? `${r.to} ${r.line?.name ?? ""} ${r.line?.title ?? ""} ${r.field?.from ?? ""} ${value(r)}`
          .toLowerCase()
          .includes(wanted)
      : all || stays(r) || room-- > 0,
  );
  const folded = wanted ? 0 : rows.length - kept.length;
  const virtual = useVirtualizer({
    count: kept.length,
    getScrollElement: () => box.current,
    estimateSize: () => 29,
    overscan: 12,
    getItemKey: (i) => kept[i]?.key ?? i,
  });

  // The line that is next is seen, wherever it stands; one that is clicked is not moved from under the mouse.
  const clicked = useRef(false);
  // biome-ignore lint/correctness/useExhaustiveDependencies: only another line moves what is seen
  useEffect(() => {
    const i = clicked.current ? -1 : kept.findIndex((r) => r.key === armed);
    clicked.current = false;
    if (i >= 0) virtual.scrollToIndex(i);
  }, [armed]);

  // What a line may be filled with, and what is most like it.
  const offered = (r: Row) => (r.loops.length ? itemSources(sources, r.loops.at(-1) as Loop) : sources);
  const likeOf = (r: Row) =>
    !r.field && r.line
      ? likeliest(
          r.line.name,
          r.line.title,
          offered(r).filter((s) => !!s.list === !!r.line?.list),
        )
      : undefined;
  const focus = () => box.current?.focus();

  const onKey = (e: React.KeyboardEvent) => {
    if (inField(e.target) || e.defaultPrevented) return;
    const i = kept.findIndex((r) => r.key === armed);
    const r = kept[i] ?? kept.find((one) => !one.field); // of none the first that nothing writes
    const letter = e.key.length === 1 && e.key !== "/" && e.key !== "?" && !e.ctrlKey && !e.metaKey && !e.altKey;
    const go = (n: number) => {
      const next = kept[Math.max(0, Math.min(kept.length - 1, n))];
      if (!next) return;
      e.preventDefault();
      setArmed(next.key);
    };
    if (e.altKey && r?.field && (e.key === "ArrowUp" || e.key === "ArrowDown")) {
      e.preventDefault();
      put(moved(fields, r.at, e.key === "ArrowUp" ? -1 : 1), "");
    } else if (e.key === "ArrowDown") go(i + 1);
    else if (e.key === "ArrowUp") go(i < 0 ? 0 : i - 1);
    else if (e.key === "Enter" && r) {
      e.preventDefault();
      if (p.picked) fill(r, p.picked);
      else if (r.field) setOpen(open === r.key ? null : r.key);
      else setChoosing({ key: r.key, begins: "" });
    } else if (letter && r) {
      e.preventDefault();
      const like = e.key === " " ? likeOf(r) : undefined;
      if (like) return fill(r, like.expression);
      setArmed(r.key);
      setChoosing({ key: r.key, begins: e.key.trim() });
    } else if (e.ctrlKey && e.key === "f") {
      e.preventDefault();
      box.current?.parentElement?.querySelector<HTMLElement>("[aria-label='Find a line']")?.focus();
    } else if (e.key === "Delete" && r?.field) {
      e.preventDefault();
      e.stopPropagation();
      put(removed(fields, r.at), "");
    } else if (e.key === "Escape" && (armed || p.picked)) {
      e.preventDefault();
      e.stopPropagation();
      arm(null);
    }
  };

  return (
    <div className="flex h-full min-h-0 flex-col" data-testid="target">
      <Bar
        {...p}
        as={as}
        find={rows.length > 0 ? find : undefined}
        onFind={setFind}
        onFound={() => {
          const called = (r: Row) =>
            [r.to, r.path, r.line?.name].some((n) => n?.replace(/^\//, "").toLowerCase() === wanted);
          if (kept.length === 0) return;
          setArmed((kept.find(called) ?? kept[0])?.key ?? null);
          setFind("");
          focus();
        }}
        unset={rows.filter((r) => r.line?.required && !r.field).length}
        error={error as Error | null}
        onShape={() => setShaping(true)}
        onLike={lines.length > 0 && sources.length > 0 ? () => setLiking(true) : undefined}
      />
      <div className="grid grid-cols-[30%_26%_minmax(0,1fr)_34px] border-b border-line px-3 py-1">
        <span className="head">Line of the target</span>
        <span className="head">Here</span>
        <span className="head">From</span>
      </div>
      <div
        ref={box}
        role="listbox"
        aria-label="Lines of the target"
        tabIndex={0}
        data-begin={rows.length > 0 || undefined}
        className="min-h-0 flex-1 overflow-auto"
        onKeyDown={onKey}
        onCopy={(e) => {
          if (inField(e.target) || fields.length === 0 || String(window.getSelection())) return;
          e.preventDefault();
          const one = rows.find((r) => r.key === armed)?.field;
          carry(one ? [one] : fields);
          e.clipboardData.setData("text/plain", textOf(one ? [one] : fields));
        }}
        onPaste={(e) => {
          const lines = inField(e.target) ? undefined : linesOf(e.clipboardData.getData("text/plain"));
          if (!lines) return;
          e.preventDefault();
          put(withLines(fields, lines).fields, "");
        }}
      >
        {rows.length === 0 && (
          <div className="px-3 py-2">
            <p className="mb-1.5 text-quiet">
              {p.within
                ? "Click a value, or add a line."
                : "Click a value on the left, or show what the target looks like: then its lines stand here, to be filled one by one."}
            </p>
            {!p.within && (
              <textarea
                aria-label="An example of the target"
                className="field data h-16"
                placeholder="Paste a document as the target wants it: JSON, XML, HL7 or CSV"
                value=""
                data-begin
                onChange={(e) => {
                  if (!e.target.value.trim()) return;
                  p.change(likeExample(p.step, e.target.value), "");
                  focus(); // the lines that come are filled from here on
                }}
              />
            )}
          </div>
        )}
        <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
          {virtual.getVirtualItems().map((v) => {
            const r = kept[v.index];
            if (!r) return null;
            const place = `fields/${r.at.join("/fields/")}`;
            const s = values(r);
            const like = r.line && !r.line.list && (r.line.required || r.key === armed) ? likeOf(r) : undefined;
            return (
              <div
                key={v.key}
                data-index={v.index}
                ref={virtual.measureElement}
                style={{ position: "absolute", top: 0, left: 0, right: 0, transform: `translateY(${v.start}px)` }}
              >
                <TargetRow
                  p={
                    r.loops.length ? { ...p, completions: [...loopCompletions(sources, r.loops), ...p.completions] } : p
                  }
                  r={r}
                  as={as}
                  words={words}
                  conditions={conditions}
                  seen={s}
                  seenAt={seen}
                  tables={byName}
                  armed={armed === r.key}
                  open={open === r.key}
                  picked={p.picked ?? null}
                  lit={p.litField === r.path || isLooked(r)}
                  like={like}
                  error={
                    r.field
                      ? (["from", "each", "to", "when", "where", "sort", "default"]
                          .map((k) => errorAt(p, `${place}/${k}`))
                          .find(Boolean) ?? errorAt(p, place))
                      : undefined
                  }
                  place={place}
                  choosing={
                    choosing?.key === r.key && {
                      sources: [
                        ...offered(r),
                        ...sources.filter((s) => r.loops.length && within(s.expression, r.loops) === s.expression),
                        ...past,
                      ],
                      like: likeOf(r),
                      begins: choosing.begins,
                      onChoose: (path) => {
                        setChoosing(null);
                        fill(r, path);
                        focus();
                      },
                      onClose: () => {
                        setChoosing(null);
                        focus();
                      },
                    }
                  }
                  onArm={() => {
                    if (p.picked) return fill(r, p.picked);
                    clicked.current = true;
                    arm(armed === r.key ? null : r.key);
                  }}
                  onFill={(path) => fill(r, path)}
                  onOpen={() => {
                    clicked.current = armed !== r.key;
                    setArmed(r.key);
                    setOpen(open === r.key ? null : r.key);
                  }}
                  onEdit={(part, mark) => {
                    if (r.field) return put(edited(fields, r.at, part), mark ? `${r.at.join("/")}${mark}` : "");
                    put(insert(r.at, { to: r.to, from: '""', ...part }), "");
                  }}
                  onRemove={() => {
                    put(removed(fields, r.at), "");
                    setOpen(null);
                  }}
                  onAddBelow={() => {
                    const f = fieldAt(fields, r.at);
                    put(
                      insert([...r.at, (f?.fields ?? []).length], {
                        to: ["json", "jsonl", "xml", "avro", "protobuf"].includes(as) ? "/field" : "",
                        from: f?.as ?? "item",
                      }),
                      "",
                    );
                  }}
                  onHover={(on) => {
                    p.onHoverField(on ? r.path : null);
                    p.onLit?.(on ? (uses.get(r.key) ?? []) : []);
                  }}
                />
              </div>
            );
          })}
        </div>
        {wanted && kept.length === 0 && (
          <p className="px-3 py-1.5 text-quiet">No line is called so, or has such a value.</p>
        )}
        {folded > 0 && (
          <button
            type="button"
            className="block w-full border-b border-line px-3 py-1 text-left text-quiet hover:bg-mark"
            onClick={() => setAll(true)}
          >
            {folded} more lines, none required
          </button>
        )}
        <Below
          as={as}
          fields={fields}
          chosen={rows.find((r) => r.key === armed)?.field}
          add={(f) => put(insert([fields.length], f), "")}
          put={(next) => put(next, "")}
          fold={all && rows.length > unfolded ? () => setAll(false) : undefined}
        />
      </div>
      {shaping && (
        <ShapeDialog
          open
          onClose={() => setShaping(false)}
          step={p.step}
          files={Object.keys(files.data ?? {}).filter((f) => f.endsWith(".json"))}
          tables={tables}
          change={(next) => p.change(next, "")}
        />
      )}
      {liking && (
        <LikeNames
          rows={rows}
          sources={sources}
          itemSources={offered}
          onClose={() => setLiking(false)}
          onTake={(chosen) => {
            let next = fields;
            for (const c of [...chosen].reverse())
              next = inserted(next, c.row.at, { to: c.row.to, from: c.source.expression });
            put(next, "");
            setLiking(false);
          }}
        />
      )}
    </div>
  );
}

export { isGroup };
