import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { call, type Entry, enc, type Schemas } from "../../api/client";
import type { Earlier } from "../../model/earlier";
import type { Step } from "../../model/model";
import { layout, rooted } from "../../ui/tree";
import type { TargetLine } from "./fields";
import type { Source } from "./paths";

export type Read = Schemas["Read"];

/** The lines of what a map writes, by its settings. */
export function useLines(flow: string, step: Step): { lines: TargetLine[]; error: unknown } {
  const { as, target, example, start, header, columns, schema, framing, "message-type": type } = step;
  const settings = { as, target, example, start, header, columns, schema, framing, "message-type": type };
  const asks = target !== undefined || start === "example" || as === "fixed" || schema !== undefined;
  const q = useQuery({
    queryKey: ["lines", flow, JSON.stringify(settings)],
    queryFn: async ({ signal }) =>
      (
        await call<{ lines: TargetLine[] }>(`/api/v1/flows/${enc(flow)}/lines`, {
          method: "POST",
          body: { settings: Object.fromEntries(Object.entries(settings).filter(([, v]) => v !== undefined)) },
          signal,
        })
      ).value.lines,
    enabled: asks,
    retry: false,
    placeholderData: (old) => old,
  });
  return { lines: (asks && q.data) || none, error: asks ? q.error : null };
}

const none: TargetLine[] = [];

/** A condition in words, as far as it can be drawn. */
export function conditionWords(c: Schemas["Condition"]): string {
  const not = c.not ? "not " : "";
  if (c.join) return `${not}(${(c.items ?? []).map(conditionWords).join(` ${c.join} `)})`.replace(/^\((.*)\)$/, "$1");
  const left = (c.left ?? "").replace(/^hl7\(\w+, "([^"]+)"\)$/, "$1").replace(/^body\./, "");
  const right = c.values?.length ? c.values.join(", ") : (c.right ?? "");
  return `${not}${left} ${c.compare} ${right === '""' ? "empty" : right.replace(/^"(.*)"$/, "“$1”")}`.trim();
}

/** Conditions in words, by their source; those that cannot be drawn are not in it. */
export function useConditions(conditions: string[]): Record<string, string> {
  const all = [...new Set(conditions)].filter(Boolean).sort();
  const q = useQuery({
    queryKey: ["conditions", all.join("\u0000")],
    queryFn: async ({ signal }) => {
      const { value } = await call<{ conditions: (Schemas["Condition"] | null)[] }>("/api/v1/words", {
        method: "POST",
        body: { conditions: all },
        signal,
      });
      return Object.fromEntries(
        all.flatMap((e, i) => {
          const c = value.conditions[i];
          return c ? [[e, conditionWords(c)]] : [];
        }),
      ) as Record<string, string>;
    },
    enabled: all.length > 0,
    placeholderData: (old) => old,
    staleTime: Number.POSITIVE_INFINITY,
  });
  return q.data ?? {};
}

/** Expressions in words, by their source. */
export function useWords(expressions: string[]): Record<string, Read> {
  const all = [...new Set(expressions)].filter(Boolean).sort();
  const q = useQuery({
    queryKey: ["words", all.join("\u0000")],
    queryFn: async ({ signal }) => {
      const { value } = await call<{ expressions: Read[] }>("/api/v1/words", {
        method: "POST",
        body: { expressions: all },
        signal,
      });
      return Object.fromEntries(all.map((e, i) => [e, value.expressions[i] as Read]));
    },
    enabled: all.length > 0,
    placeholderData: (old) => old,
    staleTime: Number.POSITIVE_INFINITY,
  });
  return q.data ?? {};
}

/** What expressions see at a step, for those who ask what becomes of a value there. */
export function seenAt(
  entry: Entry | undefined,
  earlier: Earlier[] | undefined,
  headers: Record<string, string> | undefined,
  header: boolean,
): Schemas["Seen"] {
  const sent = (b: Schemas["Body"], header: boolean) =>
    b.text === undefined && b.tree !== undefined
      ? { format: "json", text: b.tree } // what a schema reads is its tree
      : {
          format: b.format || "json",
          ...(b.text !== undefined ? { text: b.text } : { base64: b.base64 ?? "" }),
          ...(header && { header }),
        };
  return {
    ...(entry?.before && { body: sent(entry.before, header) }),
    earlier: (earlier ?? []).map((e) => ({ name: e.name, ...sent(e.body, e.body.tree?.startsWith("[{") === true) })),
    headers: headers ?? {},
    names: (entry?.names ?? []).filter((n) => n.name !== "letter").map((n) => ({ name: n.name, json: n.json })),
  };
}

/** Gives the value of a path in the message before a step, as far as it is plain. */
export function valueAt(entry: Entry | undefined): (path: string) => unknown {
  const body = entry?.before;
  return (path) => {
    const token = body?.lines?.flatMap((l) => l.tokens).find((t) => t.expression === path);
    if (token) return token.text;
    const text = body?.format === "json" || !body?.format ? body?.text : body?.tree;
    const line = text !== undefined ? layout(text)?.find((l) => `body${l.path}` === path) : undefined;
    const value = line?.tokens.find((t) => t.kind === "value");
    try {
      return value ? JSON.parse(value.text) : undefined;
    } catch {
      return value?.text;
    }
  };
}

/** Every value of the message before a step that may be picked. */
export function useSources(entry: Entry | undefined): Source[] {
  const body = entry?.before;
  return useMemo(() => sourcesOf(body, "body"), [body]);
}

/** Every value of the messages behind earlier steps, in words that say of which. */
export function useEarlier(earlier: Earlier[] | undefined): Source[] {
  return useMemo(
    () =>
      (earlier ?? []).flatMap((e) =>
        sourcesOf(e.body, e.root).map((s) => ({ ...s, title: [e.title, s.title].filter(Boolean).join(", ") })),
      ),
    [earlier],
  );
}

function sourcesOf(body: Schemas["Body"] | undefined, root: string): Source[] {
  const out: Source[] = [];
  for (const l of body?.lines ?? [])
    for (const t of l.tokens) {
      const expression = t.expression && rooted(t.expression, root);
      if (expression?.startsWith("hl7Groups(") && t.kind === "name") {
        if (!out.some((s) => s.expression === expression))
          out.push({ expression, name: t.text, title: t.title, list: true });
      } else if (expression && t.kind === "value")
        out.push({ expression, name: t.title?.split(", ").slice(-1)[0] ?? expression, title: t.title, value: t.text });
    }
  if (out.length > 0) return out;
  const text = body?.format === "json" || !body?.format ? body?.text : body?.tree;
  if (text?.trimStart().startsWith("[")) out.push({ expression: root, name: "rows", title: "all of them", list: true });
  for (const l of (text !== undefined && layout(text)) || []) {
    const value = l.tokens.find((t) => t.kind === "value");
    const mark = l.tokens.some((t) => t.text === "[");
    const name = /([^.[\]"]+)"?\]?$/.exec(l.path)?.[1] ?? "";
    if (name && !/^\d+$/.test(name) && (value || mark))
      out.push({ expression: `${root}${l.path}`, name, value: value?.text, list: mark && !value });
  }
  return out;
}
