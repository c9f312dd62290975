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

const useFlowSchema = () =>
  useQuery({
    queryKey: ["flow-schema"],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () => get<FlowSchema>("/api/v1/flow-schema"),
  }).data?.$defs;

/** A schema with what its settings refer to put in place. */
function placed(defs: FlowSchema["$defs"] | undefined, schema: Schema | undefined): Schema | undefined {
  if (!defs || !schema) return undefined;
  const properties = Object.fromEntries(
    Object.entries(schema.properties ?? {})
      .filter(([, s]) => typeof s === "object")
      .map(([name, s]) => [name, s.$ref ? (defs[s.$ref.replace("#/$defs/", "")] ?? s) : s]),
  );
  return { ...schema, properties };
}

/** What the intake of a kind may say. */
export function useIntakeSchema(kind: string): Schema | undefined {
  const defs = useFlowSchema();
  return placed(defs, defs?.intake.allOf.find((c) => c.if.properties.kind.const === kind)?.then);
}

/** What a part of the flow document beside intake and steps may say: retain, bounds or weight. */
export function useFlowPart(name: string): Schema | undefined {
  const defs = useFlowSchema();
  return placed(defs, defs?.[name]);
}

/** Says what counts where a step leaves a setting out, or an example of what might stand there. */
export type Usual = (setting: string) => string;

/** The usual settings of a kind of step. */
export function useUsual(kind: string): Usual {
  const defs = useFlowSchema();
  return usualOf(placed(defs, defs?.[`step-${kind}`]));
}

/** The usual settings of a kind of intake. */
export const useUsualIntake = (kind: string): Usual => usualOf(useIntakeSchema(kind));

function usualOf(schema: Schema | undefined): Usual {
  return (setting) => {
    let at = schema;
    for (const part of setting.split("/")) at = at?.properties?.[part] ?? at?.else?.properties?.[part];
    return String(at?.default ?? at?.examples?.[0] ?? "");
  };
}
