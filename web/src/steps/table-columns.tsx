import { useDescribed } from "../api/queries";
import type { Property, Value } from "../systems/schema";
import type { Completion } from "../ui/code";
import { NamedValues } from "../ui/pairs";
import { Setting, Text } from "../ui/parts";

const plain = (name: string) => name.toLowerCase().replace(/[^a-z0-9]/g, "");

/** The value of the message that has a column's name, or nothing. */
export function fitting(column: string, completions: Completion[]): string | undefined {
  const own = completions.filter((c) => /^(body|part|group)\./.test(c.label));
  return own.find((c) => plain(c.label.split(".").at(-1) ?? "") === plain(column))?.label;
}

type Props = {
  connection: string;
  table: string;
  property: Property;
  value: unknown;
  onChange: (v: unknown) => void;
  error: (setting: string) => string | undefined;
  completions: Completion[];
  onFill?: (fill: (path: string) => void) => void;
};

/** What is written into which column; those that the table has besides are offered with their types. */
export function Columns(p: Props) {
  const of = (p.value ?? {}) as Value;
  const table = useDescribed(p.connection, p.table).data;
  const left = (table?.columns ?? []).filter(
    (c) => !Object.keys(of).some((n) => n.toLowerCase() === c.name.toLowerCase()),
  );
  const add = (columns: typeof left) =>
    p.onChange({
      ...of,
      ...Object.fromEntries(columns.map((c) => [c.name, fitting(c.name, p.completions) ?? (c.null ? "null" : '""')])),
    });
  return (
    <>
      <NamedValues
        label="Columns"
        hint={Object.keys(of).length ? undefined : p.property.description}
        error={p.error("columns")}
        of={of}
        template={false}
        begin="column"
        add="column"
        completions={p.completions}
        errorOf={(name) => p.error(`columns/${name}`)}
        onFill={p.onFill}
        put={(entries) => p.onChange(entries.length ? Object.fromEntries(entries) : undefined)}
      />
      {left.length > 0 && (
        <p className="mb-2.5 flex flex-wrap items-baseline gap-x-2.5 gap-y-0.5 text-[12.5px] text-quiet">
          the table has
          {left.slice(0, 40).map((c) => (
            <button key={c.name} type="button" className="btn-bare" onClick={() => add([c])}>
              <span className="data">{c.name}</span>{" "}
              <span className="font-normal text-quiet">
                {c.type}
                {!c.null && !c.default && ", must be given"}
              </span>
            </button>
          ))}
          {left.length > 1 && (
            <button type="button" className="btn-bare" onClick={() => add(left)}>
              add all {left.length} columns
            </button>
          )}
        </p>
      )}
    </>
  );
}

/** The columns that find a row; the primary key is offered. */
export function FoundBy(p: Omit<Props, "completions" | "onFill">) {
  const keys = (p.value ?? []) as string[];
  const primary = (useDescribed(p.connection, p.table).data?.columns ?? []).filter((c) => c.key).map((c) => c.name);
  return (
    <Setting inline label="Found by" hint={p.property.description} error={p.error("key") ?? p.error("key/0")}>
      <Text
        mono
        label="Found by"
        value={keys.join(", ")}
        placeholder={primary.join(", ")}
        onChange={(v) => {
          const list = v.split(/[,\s]+/).filter(Boolean);
          p.onChange(list.length ? list : undefined);
        }}
      />
      {primary.length > 0 && keys.join() !== primary.join() && (
        <button type="button" className="btn-bare text-[12.5px]" onClick={() => p.onChange(primary)}>
          its primary key: {primary.join(", ")}
        </button>
      )}
    </Setting>
  );
}
