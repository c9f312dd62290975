import { useEffect, useState } from "react";
import { Code } from "../ui/code";
import { Text } from "../ui/parts";
import { errorAt, type FormProps, type StepView, withSetting } from "./kit";

type MapField = { to: string; from: string; missing?: string; note?: string };

function Form(p: FormProps) {
  const fields = (p.step.fields ?? []) as MapField[];
  const [marked, setMarked] = useState(0);
  const put = (next: MapField[], mark: string) => p.change(withSetting(p.step, "fields", next), mark);
  const edit = (i: number, part: Partial<MapField>) =>
    put(
      fields.map((f, j) => (j === i ? { ...f, ...part } : f)),
      `${i}${Object.keys(part)}`,
    );
  // A click on a value before the step fills the marked row.
  // biome-ignore lint/correctness/useExhaustiveDependencies: the row and its fields are all that matter
  useEffect(() => {
    p.onFill((path) =>
      marked < fields.length
        ? edit(marked, { from: path })
        : put(
            [
              ...fields,
              {
                to: `/${path
                  .split(/[.\]"[]+/)
                  .filter(Boolean)
                  .at(-1)}`,
                from: path,
              },
            ],
            "",
          ),
    );
  }, [marked, p.step]);
  return (
    <div>
      <table className="w-full border-collapse">
        <thead>
          <tr className="head">
            <th className="w-[26%] px-3 py-1.5 font-[650]">To</th>
            <th className="py-1.5 font-[650]">From</th>
            <th className="w-[26%] px-2 py-1.5 font-[650]">Here</th>
          </tr>
        </thead>
        <tbody>
          {fields.map((f, i) => {
            const seen = p.entry?.fields?.find((x) => x.to === f.to);
            const error = errorAt(p, `fields/${i}/from`) ?? errorAt(p, `fields/${i}/to`);
            const here = marked === i;
            return (
              <tr
                key={i}
                className={`border-t border-line align-top ${here ? "bg-sheet shadow-[inset_3px_0_var(--color-buoy)]" : p.litField === f.to ? "bg-mark" : ""}`}
                onMouseEnter={() => p.onHoverField(f.to)}
                onMouseLeave={() => p.onHoverField(null)}
                onFocus={() => setMarked(i)}
              >
                <td className="px-2 py-1">
                  {here ? (
                    <Text mono label={`Target of field ${i + 1}`} value={f.to} onChange={(to) => edit(i, { to })} />
                  ) : (
                    <button type="button" className="data w-full truncate px-1 text-left" onClick={() => setMarked(i)}>
                      {f.to}
                    </button>
                  )}
                </td>
                <td className="py-1">
                  {here ? (
                    <>
                      <Code
                        key={`${p.pointer}/${i}`}
                        label={`Value of ${f.to}`}
                        language="expression"
                        value={String(f.from)}
                        onChange={(from) => edit(i, { from })}
                        completions={p.completions}
                        invalid={!!error}
                      />
                      <span className="mt-1 flex items-center gap-3 text-[12.5px]">
                        <label className="flex items-center gap-1">
                          <input
                            type="checkbox"
                            checked={f.missing === "skip"}
                            onChange={(e) => edit(i, { missing: e.target.checked ? "skip" : "error" })}
                          />
                          skip when missing
                        </label>
                        <button
                          type="button"
                          className="btn-bare"
                          aria-label={`Move ${f.to} up`}
                          disabled={i === 0}
                          onClick={() => {
                            put(swap(fields, i, i - 1), "");
                            setMarked(i - 1);
                          }}
                        >
                          ↑
                        </button>
                        <button
                          type="button"
                          className="btn-bare"
                          aria-label={`Move ${f.to} down`}
                          disabled={i === fields.length - 1}
                          onClick={() => {
                            put(swap(fields, i, i + 1), "");
                            setMarked(i + 1);
                          }}
                        >
                          ↓
                        </button>
                        <button
                          type="button"
                          className="btn-bare"
                          onClick={() =>
                            put(
                              fields.filter((_, j) => j !== i),
                              "",
                            )
                          }
                        >
                          remove
                        </button>
                      </span>
                    </>
                  ) : (
                    <button type="button" className="data w-full text-left break-all" onClick={() => setMarked(i)}>
                      {String(f.from)}
                    </button>
                  )}
                  {error && (
                    <p role="alert" className="text-[12.5px] text-dead">
                      {error}
                    </p>
                  )}
                </td>
                <td className="data px-2 py-1 break-all">
                  {seen?.outcome === "set" && <span className="text-done">{(seen.value ?? "").slice(0, 120)}</span>}
                  {seen?.outcome === "skipped" && <span className="text-quiet">skipped</span>}
                  {seen?.outcome === "failed" && <span className="text-dead">{seen.error}</span>}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <div className="flex gap-5 border-t border-line px-3 py-1.5">
        <button
          type="button"
          className="btn-bare"
          onClick={() => {
            put([...fields, { to: "/field", from: "body" }], "");
            setMarked(fields.length);
          }}
        >
          + field
        </button>
        <label className="flex items-center gap-1">
          <input
            type="checkbox"
            checked={p.step.start === "body"}
            onChange={(e) => p.change(withSetting(p.step, "start", e.target.checked ? "body" : undefined), "")}
          />
          start from the present body
        </label>
      </div>
    </div>
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
    const n = (s.fields ?? []).length;
    return `${s.start === "body" ? "the body, changing" : "to"} ${n} ${n === 1 ? "field" : "fields"}`;
  },
  Form,
  begin: () => ({ as: "json", fields: [] }),
};
