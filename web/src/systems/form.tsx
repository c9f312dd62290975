import type { ReactNode } from "react";
import { useCalendars, useOffers } from "../api/queries";
import { Code, type Completion } from "../ui/code";
import { NamedValues } from "../ui/pairs";
import { Select, Setting, Text } from "../ui/parts";
import { RowsEditor } from "../ui/rows";
import { matters, type Property, type Schema, settingsOf, type Value, withValue } from "./schema";

/** A setting's own control, where a schema does not say enough to draw one. */
export type Override = (p: {
  name: string;
  property: Property;
  value: unknown;
  onChange: (v: unknown) => void;
  error: (setting: string) => string | undefined;
}) => ReactNode;

type Props = {
  schema: Schema;
  value: Value;
  /** The mark joins changes of one setting for undo. */
  onChange: (value: Value, mark: string) => void;
  /** What is wrong at a setting, by its path: limits/in-flight. */
  error: (setting: string) => string | undefined;
  completions?: Completion[];
  connections?: string[];
  /** The connection that is asked what is there. */
  offersOf?: string;
  /** How many short settings stand beside each other; four where nothing is said. */
  columns?: number;
  /** Settings that are drawn elsewhere. */
  omit?: string[];
  overrides?: Record<string, Override>;
  /** A secret is stored; it is never shown. */
  secretSet?: boolean;
  /** Says where a click on a value of the message goes. */
  onFill?: (fill: ((path: string) => void) | null) => void;
};

/** A form that is drawn from a schema: every setting has its title, its default and its check. */
export function SchemaForm(p: Props): ReactNode {
  const all = p.schema.properties ?? {};
  const shown = settingsOf(p.schema).filter(
    ([name, s]) => s.const === undefined && !p.omit?.includes(name) && matters(s, all, p.value),
  );
  // Short settings stand beside each other; one that takes room has a line of its own.
  const lines: [string, Property][][] = [];
  for (const one of shown) {
    const last = lines.at(-1);
    if (last?.[0] && !wide(p, one) && !wide(p, last[0]) && last.length < (p.columns ?? 4)) last.push(one);
    else lines.push([one]);
  }
  return lines.map((line) => (
    <div key={line[0]?.[0]} className={line.length > 1 ? "flex flex-wrap gap-2" : undefined}>
      {line.map(([name, property]) => (
        <Field key={name} {...p} name={name} property={property} />
      ))}
    </div>
  ));
}

const ofType = (s: Property, type: string) => s.type === type || (Array.isArray(s.type) && s.type.includes(type));
const coded = (s: Property) => ["expression", "template", "html", "lines"].includes(s.format ?? "");
const wide = (p: Props, [name, s]: [string, Property]) =>
  !!p.overrides?.[name] ||
  coded(s) ||
  !!s.properties ||
  !!s.items?.properties ||
  !!s.additionalProperties ||
  s.type === "boolean" ||
  s.format === "certificate";

function Field(p: Props & { name: string; property: Property }) {
  const { name, property: s } = p;
  const value = p.value[name];
  const label = s.title ?? name;
  const error = p.error(name);
  const offered = useOffers(s.offers ? p.offersOf : undefined, name);
  const put = (v: unknown, mark = name) => p.onChange(withValue(p.value, name, v), mark);
  const Own = p.overrides?.[name];
  if (Own) return Own({ name, property: s, value, onChange: put, error: p.error });
  if (s.properties) {
    const group = (
      <SchemaForm
        {...p}
        omit={undefined}
        overrides={undefined}
        schema={s}
        value={(value ?? {}) as Value}
        onChange={(v, mark) => put(v, `${name}/${mark}`)}
        error={(setting) => p.error(`${name}/${setting}`) ?? (setting === settingsOf(s)[0]?.[0] ? error : undefined)}
      />
    );
    // What few people need, and takes much room, opens when it is wanted.
    if (!Object.values(s.properties).some((one) => one.format === "certificate") || s.properties.kind) return group;
    return (
      <details className="mb-2.5" open={value !== undefined || undefined}>
        <summary className="head cursor-pointer">{label}</summary>
        <div className="mt-2">{group}</div>
      </details>
    );
  }
  if (s.items?.properties)
    return (
      <RowsEditor
        label={label}
        hint={s.description}
        error={error}
        columns={Object.entries(s.items.properties).map(([n, one]) => ({
          name: n,
          title: one.title ?? n,
          type: one.type === "integer" ? "number" : "text",
          options: one.enum?.map(String),
        }))}
        value={(value ?? []) as Record<string, string | number>[]}
        onChange={put}
        errorOf={(place) => p.error(`${name}/${place}`)}
      />
    );
  if (s.additionalProperties && ofType(s, "object")) return <Named {...p} label={label} put={put} />;
  if (s.type === "boolean")
    return (
      <label className="mb-2.5 flex items-center gap-1.5">
        <input type="checkbox" checked={value === true} onChange={(e) => put(e.target.checked || undefined)} />
        {label}
      </label>
    );
  if (s.enum)
    return (
      <Setting inline label={label} hint={s.titles ? undefined : s.description} error={error}>
        <Select
          label={label}
          value={String(value ?? s.default ?? "")}
          onChange={(text) => {
            const v = s.enum?.find((one) => String(one) === text); // a number stays one
            put(v === s.default && !p.schema.required?.includes(name) ? undefined : v);
          }}
          options={s.enum.map((v): [string, string] => [String(v), s.titles?.[String(v)] ?? String(v)])}
        />
      </Setting>
    );
  if (coded(s)) {
    const text = String(value ?? "");
    const tall = s.format === "lines" || s.lines;
    const language = s.format === "expression" ? "expression" : tall ? "writing" : "template";
    return (
      <Setting label={label} hint={s.description} error={error}>
        <div
          className={tall ? "h-40 border border-line" : undefined}
          onFocus={() => p.onFill?.((path) => put(s.format === "expression" ? path : `${text}\${${path}}`))}
        >
          <Code
            label={label}
            language={language}
            value={text}
            onChange={put}
            completions={p.completions ?? []}
            invalid={!!error}
          />
        </div>
        {offered.length > 0 && (
          <p className="mt-0.5 flex flex-wrap gap-x-2 text-[12.5px] text-quiet">
            there is
            {offered.slice(0, 12).map((one) => (
              <button key={one} type="button" className="btn-bare data" onClick={() => put(one)}>
                {one}
              </button>
            ))}
          </p>
        )}
      </Setting>
    );
  }
  return <Plain {...p} label={label} error={error} put={put} offered={offered} />;
}

/** A text or a number. */
function Plain(
  p: Omit<Props, "error"> & {
    name: string;
    property: Property;
    label: string;
    error?: string;
    put: (v: unknown) => void;
    offered: string[];
  },
) {
  const { property: s, label } = p;
  const value = p.value[p.name];
  const number = ofType(s, "integer") || (ofType(s, "number") && !ofType(s, "string"));
  const secret = s.format === "secret";
  const calendars = useCalendars(s.format === "calendar");
  const list =
    s.format === "connection"
      ? p.connections
      : s.format === "calendar"
        ? calendars.data?.map((c) => c.name)
        : p.offered.length > 0
          ? p.offered
          : s.examples?.map(String);
  const id = list?.length ? `offered-${p.name}` : undefined;
  const many = ofType(s, "array");
  const read = (v: string) => {
    if (many) return v.split(/[,\s]+/).filter(Boolean);
    if (v === "" || !number) return v;
    return Number.isNaN(Number(v)) ? v : Number(v);
  };
  if (s.format === "certificate")
    return (
      <Setting label={label} hint={s.description} error={p.error}>
        <textarea
          aria-label={label}
          className="field data h-16"
          value={String(value ?? "")}
          spellCheck={false}
          placeholder="-----BEGIN CERTIFICATE-----"
          onChange={(e) => p.put(e.target.value || undefined)}
        />
      </Setting>
    );
  const usual = s.default === undefined ? s.examples?.[0] : s.default;
  return (
    <Setting
      inline
      label={label}
      hint={secret && p.secretSet ? "one is stored and never shown; leave this empty to keep it" : s.description}
      error={p.error}
    >
      <Text
        label={label}
        mono={!secret}
        type={secret ? "password" : number ? "number" : undefined}
        value={many ? ((value ?? []) as string[]).join(", ") : String(value ?? "")}
        placeholder={secret && p.secretSet ? "stored" : usual === undefined ? undefined : String(usual)}
        onChange={(v) => p.put(read(v))}
        invalid={!!p.error}
        list={id}
      />
      {id && (
        <datalist id={id}>
          {list?.map((v) => (
            <option key={v} value={v} />
          ))}
        </datalist>
      )}
    </Setting>
  );
}

/** Values by name, such as headers. */
function Named(
  p: Omit<Props, "error"> & {
    name: string;
    property: Property;
    label: string;
    error: (setting: string) => string | undefined;
    put: (v: unknown, mark?: string) => void;
  },
) {
  return (
    <NamedValues
      label={p.label}
      hint={p.value[p.name] ? undefined : p.property.description}
      error={p.error(p.name)}
      of={(p.value[p.name] ?? {}) as Value}
      template={p.property.format === "template"}
      begin="name"
      add={p.label.toLowerCase()}
      completions={p.completions ?? []}
      errorOf={(name) => p.error(`${p.name}/${name}`)}
      onFill={p.onFill}
      put={(entries) => p.put(Object.fromEntries(entries), `${p.name}${entries.length}`)}
    />
  );
}
