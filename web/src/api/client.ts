import type { components } from "./schema";

export type Schemas = components["schemas"];
export type Flow = Schemas["Flow"];
export type Draft = Schemas["Draft"];
export type Checked = Schemas["Checked"];
export type Finding = Schemas["Finding"];
export type Sample = Schemas["Sample"];
export type Rehearsal = Schemas["Rehearsal"];
export type SampleRehearsal = Schemas["SampleRehearsal"];
export type Entry = Schemas["Entry"];
export type Transaction = Schemas["Transaction"];
export type TransactionWhole = Schemas["TransactionWhole"];
export type Delivery = Schemas["Delivery"];
export type Letter = Schemas["Letter"];
export type LetterWhole = Schemas["LetterWhole"];
export type Cause = Schemas["Cause"];
export type Resent = Schemas["Resent"];
export type Queue = Schemas["Queue"];
export type Group = Schemas["Group"];
export type Turn = Schemas["Turn"];
export type Topic = Schemas["Topic"];
export type Subscription = Schemas["Subscription"];
export type TopicMessage = Schemas["TopicMessage"];
export type QueueMessage = Schemas["QueueMessage"];
export type Connection = Schemas["Connection"];
export type Table = Schemas["Table"];
export type TableChange = Schemas["TableChange"];
export type Imported = Schemas["Imported"];
export type Tested = Schemas["Tested"];
export type OutsideTable = Schemas["OutsideTable"];
export type StandIn = Schemas["StandIn"];
export type StandInWhole = Schemas["StandInWhole"];
export type Behaviour = Schemas["Behaviour"];
export type MinuteCount = Schemas["MinuteCount"];
export type Reference = Schemas["Reference"];
export type PublishedVersion = Schemas["PublishedVersion"];
export type Schedule = Schemas["Schedule"];
export type StoredMessage = Schemas["StoredMessage"];
export type State = Schemas["State"];

/** An error of the server as RFC 9457 has it, with the findings of a document. */
export class ProblemError extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    readonly detail: string,
    readonly findings: Finding[] = [],
  ) {
    super(detail && detail !== title ? `${title}: ${detail}` : title);
  }
}

type Options = {
  method?: string;
  body?: unknown;
  text?: string;
  headers?: Record<string, string>;
  signal?: AbortSignal;
};

/** Calls the server. A body is sent as JSON, a text as YAML. */
export async function call<T>(
  path: string,
  o: Options = {},
): Promise<{ value: T; etag: string | null; total?: number; more?: boolean }> {
  const headers: Record<string, string> = { Accept: "application/json", ...o.headers };
  let body: string | undefined;
  if (o.text !== undefined) {
    body = o.text;
    headers["Content-Type"] ??= "application/yaml";
  } else if (o.body !== undefined) {
    body = JSON.stringify(o.body);
    headers["Content-Type"] = "application/json";
  }
  let res: Response;
  try {
    res = await fetch(path, {
      method: o.method ?? (body === undefined ? "GET" : "POST"),
      headers,
      body,
      signal: o.signal,
      keepalive: o.method === "PUT" && (body?.length ?? 0) < 60_000, // so that leaving the page does not cut it off
    });
  } catch (e) {
    if (o.signal?.aborted) throw e;
    throw new ProblemError(
      0,
      "The application does not answer",
      "is it still running? This page tries again by itself",
    );
  }
  const text = await res.text();
  if (!res.ok) {
    let p: Partial<Schemas["Problem"]> = {};
    try {
      p = JSON.parse(text);
    } catch {
      // no problem document; the status has to do
    }
    if (res.status === 401 && !path.startsWith("/api/v1/session")) window.dispatchEvent(new Event("signed-out"));
    throw new ProblemError(
      res.status,
      p.title ?? `The server answered ${res.status}`,
      p.detail ?? "",
      p.findings ?? [],
    );
  }
  const total = res.headers.get("Total-Count");
  return {
    value: (text === "" ? undefined : JSON.parse(text)) as T,
    etag: res.headers.get("ETag"),
    // Of a list of which only a part came; more tells that it was counted no further.
    ...(total === null ? {} : { total: Number(total), more: res.headers.get("Total-More") === "true" }),
  };
}

/** The value alone. */
export async function get<T>(path: string, signal?: AbortSignal): Promise<T> {
  return (await call<T>(path, { signal })).value;
}

export const enc = encodeURIComponent;
