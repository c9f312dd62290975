import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { call, type Schemas } from "../../api/client";
import { insertAtCursor } from "../../ui/caret";
import { Code, type Completion } from "../../ui/code";

export type Condition = Schemas["Condition"];

const begin: Condition = { left: "", compare: "is", right: "" };

const joins: [string, string][] = [
  ["and", "all of"],
  ["or", "any of"],
];
const plain = ["is", "is not"];
const ofTexts = [...plain, "begins with", "ends with", "contains", "is one of", "fits the pattern"];
const ofNumbers = [...plain, "is more than", "is at least", "is less than", "is at most", "is one of"];

/** The comparisons that fit a value, by what it is in the message that is looked at. */
export function comparisonsFor(value: unknown): string[] {
  if (typeof value === "boolean") return ["is yes", ...plain];
  if (typeof value === "number") return [...ofNumbers, "is there"];
  if (typeof value === "string") return [...ofTexts, "is more than", "is less than", "is there"];
  return [...new Set([...ofTexts, ...ofNumbers, "is there", "is yes"])];
}

const needsNothing = (c: string | undefined) => c === "is there" || c === "is yes";

/** A constant as CEL writes it: numbers and yes or no as themselves, all else as a text. */
const constant = (text: string, like: unknown): string =>
  typeof like === "number" && /^-?\d+(\.\d+)?$/.test(text)
    ? text
    : text === "true" || text === "false"
      ? text
      : JSON.stringify(text);

const shown = (source: string | undefined): string => {
  if (source === undefined) return "";
  try {
    const v = JSON.parse(source);
    return typeof v === "string" ? v : source;
  } catch {
    return source;
  }
};

/**
 * A condition put together from comparisons and groups, drawn from its expression and written as
 * one. What cannot be drawn stays a text.
 */
export function ConditionEditor(p: {
  label: string;
  value: string;
  onChange: (v: string) => void;
  completions: Completion[];
  invalid?: boolean;
  /** The value of a path in the message that is looked at. */
  valueOf?: (path: string) => unknown;
  onFill?: (fill: ((path: string) => void) | null) => void;
  /** Whether a click on a value goes here without a focus, because nothing else on the desk takes one. */
  points?: boolean;
}) {
  const [asText, setAsText] = useState(false);
  const q = useQuery({
    queryKey: ["condition", p.value],
    queryFn: async ({ signal }) =>
      (
        await call<{ conditions: (Condition | null)[] }>("/api/v1/words", {
          method: "POST",
          body: { conditions: [p.value] },
          signal,
        })
      ).value.conditions[0] ?? null,
    enabled: p.value !== "" && p.value !== "true",
    placeholderData: (old) => old,
    staleTime: Number.POSITIVE_INFINITY,
  });
  // What is put together stands here, complete or not, until an expression comes that it did not write.
  const [own, setOwn] = useState<Condition | null>(null);
  const wrote = useRef(p.value);
  useEffect(() => {
    if (p.value !== wrote.current) setOwn(null);
    wrote.current = p.value;
  }, [p.value]);
  const puts = useRef({ last: 0, written: 0 });
  const drawn: Condition | null = own ?? (p.value === "" || p.value === "true" ? begin : (q.data ?? null));
  const put = async (c: Condition) => {
    setOwn(c);
    const n = ++puts.current.last;
    try {
      const { value } = await call<{ expression: string }>("/api/v1/conditions", {
        method: "POST",
        body: { condition: c },
      });
      if (n < puts.current.written) return; // a later one was written before
      puts.current.written = n;
      wrote.current = value.expression;
      p.onChange(value.expression);
    } catch {
      // it is not complete yet
    }
  };
  // What is pointed at goes into the first comparison that has no value yet, or is the only one.
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is drawn now is all that matters
  useEffect(() => {
    if (!p.points || asText || !drawn) return;
    p.onFill?.((path) => {
      const compare = comparisonsFor(p.valueOf?.(path))[0];
      const put1 = (c: Condition): Condition | null => {
        if (!c.join) return c.left ? null : { ...c, left: path, compare };
        for (const [i, x] of (c.items ?? []).entries()) {
          const y = put1(x);
          if (y) return { ...c, items: c.items?.map((z, j) => (j === i ? y : z)) };
        }
        return null;
      };
      const next = put1(drawn) ?? (drawn.join ? null : { ...drawn, left: path, compare });
      if (next) put(next);
    });
  }, [drawn, asText]);
  if (asText || !drawn)
    return (
      <div onFocus={() => p.onFill?.((path) => insertAtCursor(path) || p.onChange(path))}>
        <Code
          label={p.label}
          language="expression"
          value={p.value}
          onChange={p.onChange}
          completions={p.completions}
          invalid={p.invalid}
        />
        {(drawn || p.value === "") && (
          <button type="button" className="btn-bare text-[12.5px]" onClick={() => setAsText(false)}>
            put it together
          </button>
        )}
        {!drawn && p.value !== "" && q.isFetched && (
          <p className="text-[12.5px] text-quiet">It is more than comparisons, so it stays as it is written.</p>
        )}
      </div>
    );
  return (
    <div>
      <Part {...p} c={drawn} onPut={put} top />
      <button type="button" className="btn-bare text-[12.5px]" onClick={() => setAsText(true)}>
        write it as an expression
      </button>
    </div>
  );
}

type PartProps = {
  label: string;
  c: Condition;
  onPut: (c: Condition) => void;
  onRemove?: () => void;
  completions: Completion[];
  valueOf?: (path: string) => unknown;
  onFill?: (fill: ((path: string) => void) | null) => void;
  top?: boolean;
};

function Part(p: PartProps) {
  const { c } = p;
  if (!c.join) return <Comparison {...p} />;
  const items = c.items ?? [];
  const replace = (i: number, by: Condition | null) =>
    p.onPut({ ...c, items: items.flatMap((x, j) => (j === i ? (by ? [by] : []) : [x])) });
  return (
    <fieldset className="mb-1 border-l-2 border-buoy pl-2" aria-label={`${p.label}, a group`}>
      <div className="mb-1 flex items-center gap-2">
        <NotBox {...p} />
        <select
          aria-label="Of these"
          className="field !w-auto"
          value={c.join}
          onChange={(e) => p.onPut({ ...c, join: e.target.value })}
        >
          {joins.map(([v, t]) => (
            <option key={v} value={v}>
              {t} these
            </option>
          ))}
        </select>
        {p.onRemove && (
          <button type="button" className="btn-bare" aria-label="Remove the group" onClick={p.onRemove}>
            −
          </button>
        )}
      </div>
      {items.map((x, i) => (
        <Part
          key={i}
          {...p}
          top={false}
          c={x}
          onPut={(by) => replace(i, by)}
          onRemove={() => (items.length === 2 && p.top ? p.onPut(items[1 - i] as Condition) : replace(i, null))}
        />
      ))}
      <button
        type="button"
        className="btn-bare text-[12.5px]"
        onClick={() => p.onPut({ ...c, items: [...items, begin] })}
      >
        + comparison
      </button>{" "}
      <button
        type="button"
        className="btn-bare text-[12.5px]"
        onClick={() =>
          p.onPut({ ...c, items: [...items, { join: c.join === "and" ? "or" : "and", items: [begin, begin] }] })
        }
      >
        + group
      </button>
    </fieldset>
  );
}

const NotBox = ({ c, onPut }: Pick<PartProps, "c" | "onPut">) => (
  <label className="flex items-center gap-1 text-[12.5px]">
    <input type="checkbox" checked={!!c.not} onChange={(e) => onPut({ ...c, not: e.target.checked || undefined })} />
    not
  </label>
);

function Comparison(p: PartProps) {
  const { c } = p;
  const value = c.left ? p.valueOf?.(c.left) : undefined;
  const offers = comparisonsFor(value);
  const compare = c.compare ?? "is";
  const list = compare === "is one of";
  const [right, setRight] = useState(list ? (c.values ?? []).map(shown).join(", ") : shown(c.right));
  const said = list ? (c.values ?? []).map(shown).join(", ") : shown(c.right);
  useEffect(() => setRight(said), [said]);
  const putRight = (text: string) => {
    setRight(text);
    p.onPut(
      list
        ? { ...c, values: text.split(",").map((t) => constant(t.trim(), value)) }
        : { ...c, right: constant(text, value) },
    );
  };
  return (
    <div className="mb-1 flex flex-wrap items-center gap-1.5">
      <NotBox {...p} />
      <div
        className="min-w-36 flex-1"
        onFocus={() =>
          p.onFill?.((path) => p.onPut({ ...c, left: path, compare: comparisonsFor(p.valueOf?.(path))[0] }))
        }
      >
        <Code
          label={`${p.label}, value`}
          language="expression"
          value={c.left ?? ""}
          onChange={(left) => p.onPut({ ...c, left })}
          completions={p.completions}
        />
      </div>
      <select
        aria-label={`${p.label}, comparison`}
        className="field !w-auto"
        value={compare}
        onChange={(e) => {
          const next = e.target.value;
          const { right: r, values: v, ...rest } = c;
          p.onPut(
            needsNothing(next)
              ? { ...rest, compare: next }
              : next === "is one of"
                ? { ...rest, compare: next, values: v ?? [r ?? '""'] }
                : { ...rest, compare: next, right: r ?? v?.[0] ?? '""' },
          );
        }}
      >
        {[...new Set([compare, ...offers])].map((o) => (
          <option key={o}>{o}</option>
        ))}
      </select>
      {!needsNothing(compare) && (
        <input
          aria-label={`${p.label}, compared with`}
          className="field data !w-36"
          placeholder={
            list ? "a, b, c" : typeof value === "string" || typeof value === "number" ? String(value) : "value"
          }
          value={right}
          onChange={(e) => putRight(e.target.value)}
        />
      )}
      {p.onRemove && (
        <button type="button" className="btn-bare" aria-label="Remove the comparison" onClick={p.onRemove}>
          −
        </button>
      )}
      {p.top && c.left && (
        <>
          <button
            type="button"
            className="btn-bare text-[12.5px]"
            onClick={() => p.onPut({ join: "and", items: [c, begin] })}
          >
            and…
          </button>
          <button
            type="button"
            className="btn-bare text-[12.5px]"
            onClick={() => p.onPut({ join: "or", items: [c, begin] })}
          >
            or…
          </button>
        </>
      )}
    </div>
  );
}
