import { QueryClient, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import type * as T from "./client";
import { enc, get, ProblemError } from "./client";
import { listen } from "./live";

export const queryClient = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 2_000,
      // What is refused is refused; only an application that does not answer may answer later.
      retry: (n, e) => n < 1 && !(e instanceof ProblemError && e.status >= 400 && e.status < 500),
      refetchOnWindowFocus: false,
    },
  },
});

// Whose session is over is asked to sign in, whatever page it is.
window.addEventListener("signed-out", () => void queryClient.invalidateQueries({ queryKey: ["session"] }));

// The first part of a key is the topic that the server names when it changes.
function midnight(): string {
  const d = new Date();
  d.setHours(0, 0, 0, 0);
  return d.toISOString();
}

export const useFlows = () =>
  useQuery({ queryKey: ["flows"], queryFn: () => get<T.Flow[]>(`/api/v1/flows?today=${enc(midnight())}`) });
export const useSamples = (flow: string) =>
  useQuery({
    queryKey: ["flows", flow, "samples"],
    queryFn: () => get<T.Sample[]>(`/api/v1/flows/${enc(flow)}/samples`),
  });
export const useVersions = (flow: string) =>
  useQuery({
    queryKey: ["flows", flow, "versions"],
    queryFn: () => get<T.PublishedVersion[]>(`/api/v1/flows/${enc(flow)}/versions`),
  });
export const useVersion = (flow: string, n: number) =>
  useQuery({
    queryKey: ["version", flow, n],
    staleTime: Number.POSITIVE_INFINITY,
    enabled: flow !== "" && n > 0,
    queryFn: () =>
      get<{ document: Record<string, unknown> | null; text: string }>(`/api/v1/flows/${enc(flow)}/versions/${n}`),
  });
export const useTransaction = (id: string) =>
  useQuery({
    queryKey: ["transactions", id],
    enabled: id !== "",
    queryFn: () => get<T.TransactionWhole>(`/api/v1/transactions/${id}`),
  });
export const useInspection = (id: string) =>
  useQuery({
    queryKey: ["transactions", id, "rehearsal"],
    enabled: id !== "",
    queryFn: () => get<T.Rehearsal>(`/api/v1/transactions/${id}/rehearsal`),
  });
export const useMessages = (id: string) =>
  useQuery({
    queryKey: ["transactions", id, "messages"],
    enabled: id !== "",
    queryFn: () => get<T.StoredMessage[]>(`/api/v1/transactions/${id}/messages`),
  });
export const useTroubles = () =>
  useQuery({
    queryKey: ["flows", "troubles"],
    queryFn: () => get<T.Schemas["Trouble"][]>("/api/v1/troubles"),
  });
export const useRoom = () =>
  useQuery({
    queryKey: ["flows", "room"],
    refetchInterval: 10_000,
    queryFn: () => get<T.Schemas["Room"]>("/api/v1/room"),
  });
export const useRefusedCallers = () =>
  useQuery({
    queryKey: ["flows", "refused"],
    refetchInterval: 15_000, // nobody is told of them one by one
    queryFn: () =>
      get<{ counts: Record<string, number>; calls: T.Schemas["RefusedCall"][] }>("/api/v1/refused-callers?limit=200"),
  });
export const useCauses = () =>
  useQuery({ queryKey: ["dead-letters", "causes"], queryFn: () => get<T.Cause[]>("/api/v1/dead-letters/causes") });
export const useLetter = (id: string) =>
  useQuery({
    queryKey: ["dead-letters", "one", id],
    enabled: id !== "",
    queryFn: () => get<T.LetterWhole>(`/api/v1/dead-letters/${id}`),
  });
export const useQueues = () =>
  useQuery({
    queryKey: ["queues"],
    refetchInterval: 10_000, // rates fall without any event
    queryFn: () => get<T.Queue[]>("/api/v1/queues"),
  });
export const useGroups = (limit: number) =>
  useQuery({
    queryKey: ["queues", "groups", limit],
    placeholderData: (old: { total: number; groups: T.Group[] } | undefined) => old,
    queryFn: () => get<{ total: number; groups: T.Group[] }>(`/api/v1/groups?limit=${limit}`),
  });
export const useTopics = () =>
  useQuery({
    queryKey: ["queues", "topics"],
    refetchInterval: 10_000,
    queryFn: () => get<T.Topic[]>("/api/v1/topics"),
  });
export const useAlarms = () =>
  useQuery({
    queryKey: ["alarms", "now"],
    refetchInterval: 15_000, // values change without any event
    queryFn: () => get<T.Schemas["Alarm"][]>("/api/v1/alarms"),
  });
export const useAlarmRules = () =>
  useQuery({
    queryKey: ["alarms", "rules"],
    queryFn: () => get<T.Schemas["AlarmRuleKept"][]>("/api/v1/alarm-rules"),
  });
export const useAlarmKinds = () =>
  useQuery({
    queryKey: ["alarm-kinds"],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () => get<T.Schemas["AlarmKind"][]>("/api/v1/alarm-kinds"),
  });
export const useCalendars = (wanted = true) =>
  useQuery({
    queryKey: ["alarms", "calendars"],
    enabled: wanted,
    queryFn: () => get<T.Schemas["Calendar"][]>("/api/v1/calendars"),
  });
export const useTables = () => useQuery({ queryKey: ["tables"], queryFn: () => get<T.Table[]>("/api/v1/tables") });
export const useRunners = () =>
  useQuery({
    queryKey: ["connections", "runners"],
    queryFn: () => get<T.Schemas["Runner"][]>("/api/v1/runners"),
    refetchInterval: 3000, // what waits changes with each message
  });
export const useConnections = () =>
  useQuery({ queryKey: ["connections"], queryFn: () => get<T.Connection[]>("/api/v1/connections") });
export const useKeys = () => useQuery({ queryKey: ["keys"], queryFn: () => get<T.Schemas["Key"][]>("/api/v1/keys") });
/** What a connection offers for a setting: topics, queues; nothing while it is not reached. */
export const useOffers = (connection: string | undefined, what: string) =>
  useQuery({
    queryKey: ["connections", connection, "offers", what],
    enabled: !!connection,
    retry: false,
    staleTime: 60_000,
    queryFn: () => get<string[]>(`/api/v1/connections/${enc(connection ?? "")}/offers?what=${enc(what)}`),
  }).data ?? [];
export const useDescribed = (connection: string, table: string) =>
  useQuery({
    queryKey: ["connections", connection, "tables", table],
    enabled: connection !== "" && table !== "",
    retry: false,
    staleTime: 60_000,
    queryFn: () => get<T.OutsideTable>(`/api/v1/connections/${enc(connection)}/tables/${enc(table)}`),
  });
export const useStandIns = () =>
  useQuery({ queryKey: ["stand-ins"], queryFn: () => get<T.StandIn[]>("/api/v1/stand-ins") });
export const useStandIn = (name: string) =>
  useQuery({
    queryKey: ["stand-ins", name],
    enabled: name !== "",
    queryFn: () => get<T.StandInWhole>(`/api/v1/stand-ins/${enc(name)}`),
  });
export const useReference = () =>
  useQuery({
    queryKey: ["reference"],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () => get<T.Reference>("/api/v1/reference"),
  });
/** How many came, by so many minutes; more than an hour has to be whole hours. */
export const useCounts = (flow: string, from: string, to: string, step: number) =>
  useQuery({
    queryKey: ["transactions", "counts", flow, from, to, step],
    placeholderData: (old: T.MinuteCount[] | undefined) => old,
    queryFn: () =>
      get<T.MinuteCount[]>(`/api/v1/counts?flow=${enc(flow)}&from=${enc(from)}&to=${enc(to)}&step=${step}`),
  });

/** Listens for changes and lets what depends on them be read anew. */
export function useLive(onChange?: (topics: string[]) => void) {
  const client = useQueryClient();
  useEffect(
    () =>
      listen((word) => {
        // What changed before the stream was open, at first or after a break, was not heard.
        if ("open" in word) return void client.invalidateQueries();
        const topics = word.changed;
        for (const t of topics) client.invalidateQueries({ queryKey: [t] });
        if (topics.includes("transactions")) client.invalidateQueries({ queryKey: ["flows"], exact: true });
        if (topics.includes("loads")) client.invalidateQueries({ queryKey: ["flows", "troubles"] });
        if (topics.includes("flows")) client.invalidateQueries({ queryKey: ["tables"], exact: true }); // who uses them
        onChange?.(topics);
      }),
    [client, onChange],
  );
}
