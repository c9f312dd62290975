import { useQuery } from "@tanstack/react-query";
import { get, type Schemas } from "../api/client";
import type { Schema } from "./schema";

/** A kind of outside system, with the schemas from which its forms are drawn. */
export type System = Omit<Schemas["System"], "connection" | "intake" | "deliver" | "ask"> & {
  connection: Schema;
  intake: Schema | null;
  deliver: Schema | null;
  ask: Schema | null;
};

/** The kinds of outside system that the application has. */
export const useSystems = () =>
  useQuery({
    queryKey: ["systems"],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () => get<System[]>("/api/v1/systems"),
  });

type FlowSchema = {
  $defs: Record<string, Schema> & {
    intake: { allOf: { if: { properties: { kind: { const: string } } }; then: Schema }[] };
  };
};

/** What the intake of a kind may say, with what it refers to put in place. */
export function useIntakeSchema(kind: string): Schema | undefined {
  const flow = useQuery({
    queryKey: ["flow-schema"],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () => get<FlowSchema>("/api/v1/flow-schema"),
  });
  const defs = flow.data?.$defs;
  const then = defs?.intake.allOf.find((c) => c.if.properties.kind.const === kind)?.then;
  if (!defs || !then) return undefined;
  const properties = Object.fromEntries(
    Object.entries(then.properties ?? {})
      .filter(([, s]) => typeof s === "object")
      .map(([name, s]) => [name, s.$ref ? (defs[s.$ref.replace("#/$defs/", "")] ?? s) : s]),
  );
  return { ...then, properties };
}
