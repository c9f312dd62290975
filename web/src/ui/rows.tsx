import { Setting } from "./parts";

export type RowColumn = { name: string; title: string; type: "text" | "number"; options?: string[]; width?: string };
type RowValue = Record<string, string | number | undefined>;

/** A list of rows that have the same few settings, such as the columns of a layout. */
export function RowsEditor(p: {
  label: string;
  hint?: string;
  error?: string;
  columns: RowColumn[];
  value: RowValue[];
  onChange: (v: RowValue[] | undefined) => void;
  errorOf?: (place: string) => string | undefined;
}) {
  const put = (i: number, name: string, v: string | number | undefined) =>
    p.onChange(
      p.value.map((r, j) => {
        if (j !== i) return r;
        const { [name]: _, ...rest } = r;
        return v === undefined || v === "" ? rest : { ...r, [name]: v };
      }),
    );
  return (
    <Setting label={p.label} hint={p.hint} error={p.error}>
      <table className="w-full">
        <thead>
          <tr>
            {p.columns.map((c) => (
              <th key={c.name} className="head pr-1">
                {c.title}
              </th>
            ))}
            <th aria-label="remove" />
          </tr>
        </thead>
        <tbody>
          {p.value.map((r, i) => (
            <tr key={i}>
              {p.columns.map((c) => (
                <td key={c.name} className="pr-1 pb-1" style={{ width: c.width }}>
                  {c.options ? (
                    <select
                      aria-label={`${c.title} ${i + 1}`}
                      className="field"
                      value={String(r[c.name] ?? c.options[0])}
                      onChange={(e) => put(i, c.name, e.target.value === c.options?.[0] ? undefined : e.target.value)}
                    >
                      {c.options.map((o) => (
                        <option key={o}>{o}</option>
                      ))}
                    </select>
                  ) : (
                    <input
                      aria-label={`${c.title} ${i + 1}`}
                      className="field data"
                      type={c.type}
                      value={String(r[c.name] ?? "")}
                      aria-invalid={!!p.errorOf?.(`${i}/${c.name}`) || undefined}
                      onChange={(e) =>
                        put(
                          i,
                          c.name,
                          c.type === "number" ? Math.trunc(Number(e.target.value)) || undefined : e.target.value,
                        )
                      }
                    />
                  )}
                </td>
              ))}
              <td className="pb-1">
                <button
                  type="button"
                  className="btn !px-2"
                  aria-label={`Remove row ${i + 1}`}
                  onClick={() => p.onChange(p.value.length === 1 ? undefined : p.value.filter((_, j) => j !== i))}
                >
                  −
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <button type="button" className="btn-bare" onClick={() => p.onChange([...p.value, {}])}>
        + row
      </button>
    </Setting>
  );
}
