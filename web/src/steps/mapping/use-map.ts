import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { call, type Entry, enc, type Schemas } from "../../api/client";
import type { Step } from "../../model/model";
import { layout } from "../../ui/tree";
import type { TargetLine } from "./fields";
import type { Source } from "./paths";

export type Read = Schemas["Read"];

/** The lines of what a map writes, by its settings. */
export function useLines(flow: string, step: Step): { lines: TargetLine[]; error: unknown } {
  const { as, target, example, start, header } = step;
  const settings = { as, target, example, start, header };
  const asks = target !== undefined || start === "example";
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
export function seenAt(entry: Entry | undefined, headers: Record<string, string> | undefined, header: boolean) {
  const b = entry?.before;
  return {
    ...(b && {
      body: {
        format: b.format || "json",
        ...(b.text !== undefined ? { text: b.text } : { base64: b.base64 ?? "" }),
        ...(header && { header }),
      },
    }),
    headers: headers ?? {},
    names: (entry?.names ?? []).filter((n) => n.name !== "letter").map((n) => ({ name: n.name, json: n.json })),
  };
}

/** Every value of the message before a step that may be picked. */
export function useSources(entry: Entry | undefined): Source[] {
  const body = entry?.before;
  return useMemo(() => {
    const out: Source[] = [];
    for (const l of body?.lines ?? [])
      for (const t of l.tokens)
        if (t.expression && t.kind === "value")
          out.push({ expression: t.expression, name: t.title ?? t.expression, title: t.title, value: t.text });
    if (out.length === 0) {
      const text = body?.format === "json" || !body?.format ? body?.text : body?.tree;
      for (const l of (text !== undefined && layout(text)) || []) {
        const value = l.tokens.find((t) => t.kind === "value");
        const mark = l.tokens.some((t) => t.text === "[");
        const name = /([^.[\]"]+)"?\]?$/.exec(l.path)?.[1] ?? "";
        if (name && !/^\d+$/.test(name) && (value || mark))
          out.push({ expression: `body${l.path}`, name, value: value?.text, list: mark && !value });
      }
    }
    return out;
  }, [body?.lines, body?.text, body?.tree, body?.format]);
}
