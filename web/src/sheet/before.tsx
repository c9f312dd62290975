import { useState } from "react";
import type { Entry, Sample, Schemas } from "../api/client";
import type { Earlier } from "../model/earlier";
import { Document } from "../ui/document";
import { pathOf, pointerOf, rooted, unrooted } from "../ui/tree";
import { Seen } from "./shown";

/**
 * What a step sees: its message, and one click away the message behind any earlier step, what the parts and groups
 * around it are, the headers, and what earlier steps have set, looked up and been answered.
 */
export function Before(p: {
  body: Schemas["Body"] | undefined;
  entry: Entry | undefined;
  earlier: Earlier[];
  sample: Sample;
  used: string[];
  /** Expressions and pointers that are looked at now. */
  lit: string[];
  picked: string | null;
  mapped: string[] | undefined;
  onPick?: (expression: string) => void;
  onHover: (place: string | null) => void;
}) {
  const [name, setName] = useState<string | null>(null);
  const from = p.earlier.find((e) => e.name === name);
  const named = p.mapped !== undefined;
  const headers = Object.entries(p.sample.headers ?? {}).map(([k, v]) => [k.toLowerCase(), v]);
  const came: [string, object][] = [
    ["headers", Object.fromEntries(headers)],
    ["params", p.sample.params ?? {}],
  ];
  const seen = (n: { name: string; json: string }, open?: boolean) => (
    <Seen key={n.name} name={n.name} json={n.json} open={open} onPick={p.onPick} />
  );
  const around = (n: { name: string }) => n.name === "part" || n.name === "group";
  return (
    <>
      {p.earlier.length > 0 && (
        <p
          className="sticky top-0 z-10 flex flex-wrap gap-x-3 border-b border-line bg-sheet px-3 py-1 text-[12.5px]"
          role="group"
          aria-label="Which message"
        >
          {[{ name: null, title: "here" }, ...p.earlier].map((e) => (
            <button
              key={e.name ?? ""}
              type="button"
              aria-pressed={(from?.name ?? null) === e.name}
              className={(from?.name ?? null) === e.name ? "font-bold" : "text-quiet hover:underline"}
              onClick={() => setName(e.name)}
            >
              {e.title}
            </button>
          ))}
        </p>
      )}
      {p.entry?.names?.filter(around).map((n) => seen(n, true))}
      {from ? (
        <Document
          key={from.name}
          body={from.body}
          root={from.root}
          lit={p.lit.flatMap((e) => {
            const own = unrooted(e, from.root);
            return own === null ? [] : [own, pointerOf(own) ?? own];
          })}
          picked={p.picked}
          mapped={p.mapped}
          named={named}
          onPick={p.onPick}
          onHover={(at) =>
            p.onHover(at === null ? null : /^(\/|$)/.test(at) ? pathOf(at, from.root) : rooted(at, from.root))
          }
        />
      ) : (
        <Document
          body={p.body}
          used={p.used}
          lit={[...p.lit, ...p.lit.flatMap((e) => pointerOf(e) ?? [])]}
          picked={p.picked}
          mapped={p.mapped}
          named={named}
          onPick={p.onPick}
          onHover={p.onHover}
        />
      )}
      {p.entry?.names?.filter((n) => !around(n)).map((n) => seen(n))}
      {came
        .filter(([, values]) => Object.keys(values).length > 0)
        .map(([title, values]) => seen({ name: title, json: JSON.stringify(values) }))}
    </>
  );
}
