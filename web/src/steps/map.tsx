import { type ReactNode, useEffect, useState } from "react";
import { Code } from "../ui/code";
import { Select, Setting, Text } from "../ui/parts";
import { CSVSettings, errorAt, type FormProps, type StepView, withSetting } from "./kit";

type MapField = {
  to?: string;
  from?: string;
  missing?: string;
  default?: string;
  raw?: boolean;
  note?: string;
  each?: string;
  as?: string;
  fields?: MapField[];
};

/** Where a field stands: its number, and those of the loops around it. */
type At = number[];

const fieldAt = (fields: MapField[], at: At): MapField | undefined =>
  at.slice(1).reduce<MapField | undefined>((f, i) => f?.fields?.[i], fields[at[0] ?? 0]);

/** A copy of the fields in which the list that holds a place is what change makes of it. */
function changeList(fields: MapField[], at: At, change: (list: MapField[], i: number) => MapField[]): MapField[] {
  const [i = 0, ...rest] = at;
  if (rest.length === 0) return change(fields, i);
  return fields.map((f, j) => (j === i ? { ...f, fields: changeList(f.fields ?? [], rest, change) } : f));
}

const places: Record<string, { to: string; hint: string }> = {
  json: { to: "/field", hint: "a JSON Pointer: /a/b, /list/- appends" },
  xml: { to: "/root/field", hint: "/order/line[2]/@sku" },
  csv: { to: "column", hint: "the column's name, or its number" },
  hl7: { to: "PID-5.1", hint: "PID-5.1, PID-3[2].1, OBX[2]-5" },
  form: { to: "field", hint: "the field's name" },
};

/** The fields of a map; within another step they always start from nothing. */
export function MapForm(p: FormProps & { within?: boolean }) {
  const fields = (p.step.fields ?? []) as MapField[];
  const as = String(p.step.as ?? p.usual("as"));
  const start = String(p.step.start ?? p.usual("start"));
  const [marked, setMarked] = useState<At>([0]);
  const put = (next: MapField[], mark: string) => p.change(withSetting(p.step, "fields", next), mark);
  const edit = (at: At, part: Partial<MapField>) =>
    put(
      changeList(fields, at, (l, i) =>
        l.map((f, j) =>
          j === i
            ? (Object.fromEntries(Object.entries({ ...f, ...part }).filter(([, v]) => v !== undefined)) as MapField)
            : f,
        ),
      ),
      `${at.join("/")}${Object.keys(part)}`,
    );
  const add = (at: At, f: MapField) => {
    put(
      changeList(fields, at, (l, i) => [...l.slice(0, i), f, ...l.slice(i)]),
      "",
    );
    setMarked(at);
  };
  // A click on a value before the step fills the marked row.
  // biome-ignore lint/correctness/useExhaustiveDependencies: the row and its fields are all that matter
  useEffect(() => {
    p.onFill((path) => {
      const f = fieldAt(fields, marked);
      if (f) return edit(marked, f.each === undefined ? { from: path } : { each: path });
      const last =
        path
          .split(/[.\]"[]+/)
          .filter(Boolean)
          .at(-1) ?? "field";
      add([fields.length], { to: as === "json" ? `/${last}` : as === "xml" ? `/root/${last}` : last, from: path });
    });
  }, [marked, p.step]);
  const rows = (list: MapField[], above: At, source: string, depth: number): ReactNode[] =>
    list.flatMap((f, i) => {
      const at = [...above, i];
      const here = marked.length === at.length && marked.every((n, j) => n === at[j]);
      const place = `fields/${at.join("/fields/")}`;
      const name = source + (f.to ?? "");
      const seen = p.entry?.fields?.find((x) => x.to === name);
      const error =
        errorAt(p, `${place}/from`) ?? errorAt(p, `${place}/each`) ?? errorAt(p, `${place}/to`) ?? errorAt(p, place);
      const row = (
        <FieldRow
          key={at.join("/")}
          p={p}
          f={f}
          at={at}
          depth={depth}
          here={here}
          error={error}
          seen={seen}
          as={as}
          lit={p.litField === name}
          count={list.length}
          onMark={() => setMarked(at)}
          onHover={(on) => p.onHoverField(on ? name : null)}
          onEdit={(part) => edit(at, part)}
          onMove={(by) => {
            put(
              changeList(fields, at, (l, n) => swap(l, n, n + by)),
              "",
            );
            setMarked([...above, i + by]);
          }}
          onRemove={() =>
            put(
              changeList(fields, at, (l, n) => l.filter((_, j) => j !== n)),
              "",
            )
          }
        />
      );
      if (f.each === undefined) return [row];
      return [
        row,
        ...rows(f.fields ?? [], at, `${name}[]`, depth + 1),
        <tr key={`${at.join("/")}+`} className="border-t border-line">
          <td colSpan={3} className="px-2 py-1" style={{ paddingLeft: 8 + (depth + 1) * 18 }}>
            <button
              type="button"
              className="btn-bare"
              onClick={() =>
                add([...at, (f.fields ?? []).length], {
                  to: as === "json" || as === "xml" ? "/field" : (places[as]?.to ?? "field"),
                  from: f.as ?? "item",
                })
              }
            >
              + field of each {f.as ?? "item"}
            </button>
          </td>
        </tr>,
      ];
    });
  return (
    <div>
      <div className="flex gap-2 px-3 pt-2">
        <Setting inline label="Format">
          <Select
            label="Format"
            value={as}
            onChange={(v) => p.change(withSetting(p.step, "as", v), "")}
            options={Object.keys(places)}
          />
        </Setting>
        {!p.within && (
          <Setting inline label="Starts from" error={errorAt(p, "start")}>
            <Select
              label="Starts from"
              value={start}
              onChange={(v) => {
                const next = withSetting(p.step, "start", v === p.usual("start") ? undefined : v);
                p.change(v === "example" ? next : withSetting(next, "example", undefined), "");
              }}
              options={[
                ["nothing", "nothing"],
                ["body", "the present body"],
                ["example", "an example"],
              ]}
            />
          </Setting>
        )}
      </div>
      {start === "example" && <Example {...p} />}
      {as === "csv" && (
        <div className="px-3">
          <CSVSettings {...p} header="with a row of the columns' names" />
        </div>
      )}
      <table className="w-full border-collapse">
        <thead>
          <tr className="head">
            <th className="w-[26%] px-3 py-1.5 font-[650]" title={places[as]?.hint}>
              To
            </th>
            <th className="py-1.5 font-[650]">From</th>
            <th className="w-[26%] px-2 py-1.5 font-[650]">Here</th>
          </tr>
        </thead>
        <tbody>{rows(fields, [], "", 0)}</tbody>
      </table>
      <div className="flex gap-5 border-t border-line px-3 py-1.5">
        <button
          type="button"
          className="btn-bare"
          onClick={() => add([fields.length], { to: places[as]?.to ?? "/field", from: "body" })}
        >
          + field
        </button>
        <button
          type="button"
          className="btn-bare"
          onClick={() =>
            add([fields.length], {
              ...(as === "csv" || as === "hl7" ? {} : { to: as === "json" ? "/list" : (places[as]?.to ?? "field") }),
              each: "body",
              fields: [],
            })
          }
        >
          + for each
        </button>
      </div>
    </div>
  );
}

/** The document to start from: JSON as itself, other formats as text. */
function Example(p: FormProps) {
  const value = p.step.example as unknown;
  const [text, setText] = useState(() =>
    value === undefined ? "" : typeof value === "string" ? value : JSON.stringify(value, null, 2),
  );
  return (
    <div className="px-3">
      <Setting label="Example" error={errorAt(p, "example") ?? (value === undefined ? errorAt(p, "") : undefined)}>
        <div className="h-32 border border-line">
          <Code
            label="Example"
            language="text"
            value={text}
            onChange={(t) => {
              setText(t);
              p.change(withSetting(p.step, "example", t), "example");
            }}
          />
        </div>
      </Setting>
    </div>
  );
}

type RowProps = {
  p: FormProps;
  f: MapField;
  at: At;
  depth: number;
  here: boolean;
  error: string | undefined;
  seen: { outcome: string; value?: string; error?: string } | undefined;
  as: string;
  lit: boolean;
  count: number;
  onMark: () => void;
  onHover: (on: boolean) => void;
  onEdit: (part: Partial<MapField>) => void;
  onMove: (by: -1 | 1) => void;
  onRemove: () => void;
};

function FieldRow(r: RowProps) {
  const { f, at, here } = r;
  const i = at.at(-1) ?? 0;
  const loop = f.each !== undefined;
  const label = at.map((n) => n + 1).join(".");
  const missing = f.missing ?? (f.default === undefined ? "error" : "default");
  return (
    <tr
      className={`border-t border-line align-top ${here ? "bg-sheet shadow-[inset_3px_0_var(--color-buoy)]" : r.lit ? "bg-mark" : ""}`}
      onMouseEnter={() => r.onHover(true)}
      onMouseLeave={() => r.onHover(false)}
      onFocus={r.onMark}
    >
      <td className="px-2 py-1" style={{ paddingLeft: 8 + r.depth * 18 }}>
        {loop && <span className="head">for each</span>}
        {loop && (r.as === "csv" || r.as === "hl7") ? null : here ? (
          <Text mono label={`Target of field ${label}`} value={f.to ?? ""} onChange={(to) => r.onEdit({ to })} />
        ) : (
          <button type="button" className="data w-full truncate px-1 text-left" onClick={r.onMark}>
            {f.to || (r.depth > 0 ? "the item itself" : "")}
          </button>
        )}
      </td>
      <td className="py-1">
        {here ? (
          <>
            <Code
              key={`${r.p.pointer}/${label}${loop}`}
              label={loop ? `List of field ${label}` : `Value of ${f.to}`}
              language="expression"
              value={String((loop ? f.each : f.from) ?? "")}
              onChange={(v) => r.onEdit(loop ? { each: v } : { from: v })}
              completions={r.p.completions}
              invalid={!!r.error}
            />
            <span className="mt-1 flex flex-wrap items-center gap-x-3 gap-y-1 text-[12.5px]">
              {loop ? (
                <span className="flex items-center gap-1">
                  as
                  <span className="w-24">
                    <Text
                      mono
                      label={`Name of each item of field ${label}`}
                      placeholder="item"
                      value={f.as ?? ""}
                      onChange={(as) => r.onEdit({ as: as || undefined })}
                    />
                  </span>
                </span>
              ) : (
                <>
                  <span className="flex items-center gap-1">
                    when missing
                    <span className="w-24">
                      <Select
                        label={`When field ${label} is missing`}
                        value={missing}
                        onChange={(m) =>
                          r.onEdit({
                            missing: m === "error" ? undefined : m,
                            default: m === "default" ? (f.default ?? '""') : undefined,
                          })
                        }
                        options={["error", "skip", "empty", "default"]}
                      />
                    </span>
                  </span>
                  {missing === "default" && (
                    <span className="min-w-28 flex-1">
                      <Code
                        label={`Default of field ${label}`}
                        language="expression"
                        value={String(f.default ?? "")}
                        onChange={(v) => r.onEdit({ default: v })}
                        completions={r.p.completions}
                      />
                    </span>
                  )}
                  {r.as !== "csv" && r.as !== "form" && (
                    <label className="flex items-center gap-1" title="the text is a piece of the format itself">
                      <input
                        type="checkbox"
                        checked={!!f.raw}
                        onChange={(e) => r.onEdit({ raw: e.target.checked || undefined })}
                      />
                      raw
                    </label>
                  )}
                </>
              )}
              <button
                type="button"
                className="btn-bare"
                aria-label={`Move ${f.to ?? "the loop"} up`}
                disabled={i === 0}
                onClick={() => r.onMove(-1)}
              >
                ↑
              </button>
              <button
                type="button"
                className="btn-bare"
                aria-label={`Move ${f.to ?? "the loop"} down`}
                disabled={i === r.count - 1}
                onClick={() => r.onMove(1)}
              >
                ↓
              </button>
              <button type="button" className="btn-bare" onClick={r.onRemove}>
                remove
              </button>
            </span>
          </>
        ) : (
          <button type="button" className="data w-full text-left break-all" onClick={r.onMark}>
            {loop ? `${f.as ?? "item"} of ${f.each}` : String(f.from)}
          </button>
        )}
        {r.error && (
          <p role="alert" className="text-[12.5px] text-dead">
            {r.error}
          </p>
        )}
      </td>
      <td className="data px-2 py-1 break-all">
        {r.seen?.outcome === "set" && <span className="text-done">{(r.seen.value ?? "").slice(0, 120)}</span>}
        {r.seen?.outcome === "skipped" && <span className="text-quiet">skipped</span>}
        {r.seen?.outcome === "failed" && <span className="text-dead">{r.seen.error}</span>}
      </td>
    </tr>
  );
}

function swap<T>(list: T[], i: number, j: number): T[] {
  const out = [...list];
  [out[i], out[j]] = [out[j] as T, out[i] as T];
  return out;
}

export const map: StepView = {
  verb: "Map",
  sentence: (s) => {
    const count = (l: MapField[]): number =>
      l.reduce((n, f) => n + (f.each === undefined ? 1 : count(f.fields ?? [])), 0);
    const n = count((s.fields ?? []) as MapField[]);
    const as = s.as && s.as !== "json" ? ` as ${String(s.as).toUpperCase()}` : "";
    return `${s.start === "body" ? "the body, changing" : s.start === "example" ? "the example, changing" : "to"} ${n} ${n === 1 ? "field" : "fields"}${as}`;
  },
  Form: MapForm,
  begin: () => ({ as: "json", fields: [] }),
};
