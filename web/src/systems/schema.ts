/** What a document may say, as the server has it: JSON Schema with words for people. */
export type Property = {
  type?: string | string[];
  title?: string;
  description?: string;
  default?: unknown;
  examples?: unknown[];
  format?: string;
  /** A text of several lines. */
  lines?: boolean;
  /** What is there can be asked of the connection. */
  offers?: boolean;
  enum?: (string | number)[];
  /** Of a list of rows. */
  items?: { properties?: Record<string, Property> };
  /** Words for the values of enum. */
  titles?: Record<string, string>;
  /** With which values of another setting this one matters; * stands for any. */
  when?: Record<string, string[]>;
  const?: unknown;
  properties?: Record<string, Property>;
  required?: string[];
  additionalProperties?: unknown;
  $ref?: string;
  else?: Property;
};
export type Schema = Property;
export type Value = Record<string, unknown>;

/** The settings of a schema, in their order. */
export const settingsOf = (schema: Schema | null | undefined): [string, Property][] =>
  Object.entries(schema?.properties ?? {});

/** Whether a setting matters where others are as they are. */
export function matters(property: Property, all: Record<string, Property>, value: Value): boolean {
  return Object.entries(property.when ?? {}).every(([other, values]) => {
    const has = value[other] ?? all[other]?.default;
    return values.includes("*") ? has !== undefined && has !== "" : values.includes(String(has));
  });
}

/** A value with a setting; what is empty or undefined is left out, and so is what holds nothing. */
export function withValue(value: Value, name: string, v: unknown): Value {
  const { [name]: _, ...rest } = value;
  const empty = v === undefined || v === "" || (typeof v === "object" && v !== null && Object.keys(v).length === 0);
  if (empty) return rest;
  return name in value ? { ...value, [name]: v } : { ...rest, [name]: v };
}

/** What a new document says: the defaults that must be said, because they are required. */
export function begin(schema: Schema): Value {
  const out: Value = {};
  for (const name of schema.required ?? []) {
    const p = schema.properties?.[name];
    if (p?.const !== undefined) out[name] = p.const;
    else if (p?.properties) out[name] = begin(p);
    else if (p?.default !== undefined) out[name] = p.default;
  }
  return out;
}

/** How a step reads: {name} stands for a setting, and what stands in [ ] is left out without it. */
export function sentence(pattern: string, schema: Schema | null | undefined, value: Value): string {
  const find = (path: string): string => {
    let v: unknown = value;
    for (const part of path.split(".")) v = (v as Value | undefined)?.[part];
    v ??= schema?.properties?.[path]?.default;
    return v === undefined || v === null ? "" : String(v);
  };
  return pattern
    .replace(/\[([^\]]*)\]/g, (_, part: string) => {
      const names = [...part.matchAll(/\{([^}]+)\}/g)].map((m) => m[1] ?? "");
      return names.every((n) => find(n) !== "") ? part : "";
    })
    .replace(/\{([^}]+)\}/g, (_, name: string) => find(name))
    .replace(/\s+/g, " ")
    .trim();
}
