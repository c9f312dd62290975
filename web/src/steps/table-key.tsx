import { Code } from "../ui/code";
import { Setting, Text } from "../ui/parts";
import { errorAt, type FormProps, withSetting } from "./kit";

// biome-ignore lint/suspicious/noExplicitAny: a hop is a part of the step's document
type Hop = any;

/** Which table, by which key, and at which value of its range. */
export function KeySetting(
  p: FormProps & { hop: Hop; at: string; onHop: (h: Hop, mark: string) => void; onRemove?: () => void },
) {
  const { hop } = p;
  const several = hop.key !== null && typeof hop.key === "object";
  const pairs: [string, string][] = several
    ? Object.entries(hop.key as Record<string, unknown>).map(([k, v]) => [k, String(v)])
    : [["", String(hop.key ?? "")]];
  const put = (name: string, v: unknown, mark = p.at + name) => p.onHop(withSetting(hop, name, v), mark);
  const putPairs = (all: [string, string][]) => put("key", Object.fromEntries(all), `${p.at}key${all.length}`);
  return (
    <>
      <div className="flex gap-2">
        <Setting inline label={p.at ? "From there, in" : "In the table"} error={errorAt(p, `${p.at}in`)}>
          <Text
            mono
            label={p.at ? "From there, in" : "In the table"}
            list="tables"
            value={String(hop.in ?? "")}
            onChange={(v) => put("in", v)}
            invalid={!!errorAt(p, `${p.at}in`)}
          />
        </Setting>
        <div className="flex-[2]">
          <Setting
            label="Key"
            hint={p.at ? "row is the row that was found before" : undefined}
            error={errorAt(p, `${p.at}key`) ?? pairs.map(([c]) => errorAt(p, `${p.at}key/${c}`)).find(Boolean)}
          >
            {pairs.map(([column, value], i) => {
              const set = (v: string) =>
                several
                  ? putPairs(pairs.map((x, j) => (j === i ? [column, v] : x)))
                  : put("key", v === "" ? undefined : v);
              return (
                <div key={i} className="mb-1 flex gap-1.5">
                  {several && (
                    <div className="w-28 shrink-0">
                      <Text
                        mono
                        label={`Column ${i + 1} of the key`}
                        value={column}
                        onChange={(c) => putPairs(pairs.map((x, j) => (j === i ? [c, value] : x)))}
                      />
                    </div>
                  )}
                  <div className="min-w-0 flex-1" onFocus={() => p.onFill((path) => set(path))}>
                    <Code
                      key={p.pointer + p.at + i + String(several)}
                      label={several ? `Value of column ${i + 1} of the key` : "Key"}
                      language="expression"
                      value={value}
                      onChange={set}
                      completions={p.completions}
                      invalid={!!errorAt(p, several ? `${p.at}key/${column}` : `${p.at}key`)}
                    />
                  </div>
                </div>
              );
            })}
            <button
              type="button"
              className="btn-bare mr-3"
              onClick={() =>
                putPairs(several ? [...pairs, [`column${pairs.length + 1}`, ""]] : [["column", pairs[0]?.[1] ?? ""]])
              }
            >
              {several ? "+ column" : "a key by its columns"}
            </button>
            {several && pairs.length === 1 && (
              <button type="button" className="btn-bare mr-3" onClick={() => put("key", pairs[0]?.[1], "")}>
                its first key
              </button>
            )}
            {hop.at === undefined && (
              <button type="button" className="btn-bare mr-3" onClick={() => put("at", "body.value", "")}>
                + at a value of its range
              </button>
            )}
            {p.onRemove && (
              <button type="button" className="btn-bare" onClick={p.onRemove}>
                − this hop
              </button>
            )}
          </Setting>
        </div>
      </div>
      {hop.at !== undefined && (
        <Setting label="At" hint="the value that must lie in the row's range" error={errorAt(p, `${p.at}at`)}>
          <div onFocus={() => p.onFill((path) => put("at", path))}>
            <Code
              key={`${p.pointer}${p.at}at`}
              label="At"
              language="expression"
              value={String(hop.at)}
              onChange={(v) => put("at", v === "" ? undefined : v)}
              completions={p.completions}
              invalid={!!errorAt(p, `${p.at}at`)}
            />
          </div>
        </Setting>
      )}
    </>
  );
}
