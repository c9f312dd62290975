import { useState } from "react";
import { call, enc, type Schemas } from "../api/client";
import { useDescribed, useOffers } from "../api/queries";
import { Dialog, Select, Setting, says, Text } from "../ui/parts";

type Selection = Schemas["Selection"];
type Selected = Selection["tables"][number];
type Compared = NonNullable<Selection["where"]>[number];

const comparisons: [Compared["is"], string][] = [
  ["=", "is"],
  ["<>", "is not"],
  ["<", "is below"],
  ["<=", "is at most"],
  [">", "is above"],
  [">=", "is at least"],
  ["like", "is like (% any, _ one)"],
  ["null", "has no value"],
  ["not null", "has a value"],
];

/** Tables, columns, joins and conditions of a query; the statement is written by the server. */
export function QueryBuilder(p: {
  connection: string;
  onClose: () => void;
  onWritten: (sql: string, params: string[]) => void;
}) {
  const names = useOffers(p.connection, "table");
  const [tables, setTables] = useState<Selected[]>([]);
  const [where, setWhere] = useState<Compared[]>([]);
  const [order, setOrder] = useState<{ table: number; column: string; down: boolean }>();
  const [most, setMost] = useState("");
  const [bad, setBad] = useState<string>();
  const first = tables[0];
  const change = (i: number, next: Selected) => setTables(tables.map((t, j) => (j === i ? next : t)));
  const begin = (table: string) => {
    setTables([{ table, columns: [] }]);
    setWhere([]);
    setOrder(undefined);
  };
  const drop = (i: number) => {
    // What is joined to it goes with it, and so does what is said of them.
    const gone = new Set([i]);
    tables.forEach((t, j) => {
      if (j > i && gone.has(t.with ?? 0)) gone.add(j);
    });
    const place = new Map(
      tables
        .map((_, j) => j)
        .filter((j) => !gone.has(j))
        .map((j, to) => [j, to]),
    );
    setTables(tables.filter((_, j) => !gone.has(j)).map((t) => ({ ...t, with: place.get(t.with ?? 0) })));
    setWhere(where.filter((c) => !gone.has(c.table ?? 0)).map((c) => ({ ...c, table: place.get(c.table ?? 0) })));
    if (order) setOrder(gone.has(order.table) ? undefined : { ...order, table: place.get(order.table) ?? 0 });
  };
  const write = async () => {
    try {
      const body: Selection = { tables, where, order: order ? [order] : [], most: Number(most) || 0 };
      const { value } = await call<{ sql: string; params: string[] }>(
        `/api/v1/connections/${enc(p.connection)}/query`,
        { body },
      );
      p.onWritten(value.sql, value.params);
    } catch (e) {
      setBad(says(e));
    }
  };
  return (
    <Dialog open wide onClose={p.onClose} title={`Read from ${p.connection}`}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          write();
        }}
      >
        {names.length === 0 ? (
          <p className="mb-3 text-quiet">
            No table is listed: the connection is not reached, or is to something that has none. Test it on the
            Connections page.
          </p>
        ) : (
          <Setting inline label="From">
            <Select
              label="From"
              value={first?.table ?? ""}
              onChange={begin}
              options={[["", "choose a table"], ...names.map((n): [string, string] => [n, n])]}
            />
          </Setting>
        )}
        <div className="max-h-[50vh] overflow-auto">
          {tables.map((t, i) => (
            <TablePart
              key={i}
              connection={p.connection}
              table={t}
              place={i}
              joined={tables}
              onChange={(next) => change(i, next)}
              onJoin={(next) => setTables([...tables, next])}
              onDrop={i > 0 ? () => drop(i) : undefined}
              onWhere={(column) => setWhere([...where, { table: i, column, is: "=" }])}
              onOrder={(column) =>
                setOrder({ table: i, column, down: order?.table === i && order.column === column && !order.down })
              }
            />
          ))}
          {where.map((c, i) => (
            <div key={i} className="mb-1.5 flex items-center gap-2">
              <span>{i === 0 ? "where" : "and"}</span>
              <b className="data">
                {tables[c.table ?? 0]?.table}.{c.column}
              </b>
              <span className="w-52">
                <Select
                  label={`Comparison of ${c.column}`}
                  value={c.is}
                  onChange={(is) => setWhere(where.map((w, j) => (j === i ? { ...w, is: is as Compared["is"] } : w)))}
                  options={comparisons}
                />
              </span>
              {!c.is.endsWith("null") && <span className="text-quiet">a parameter</span>}
              <button
                type="button"
                className="btn !px-2"
                aria-label={`Remove the condition on ${c.column}`}
                onClick={() => setWhere(where.filter((_, j) => j !== i))}
              >
                −
              </button>
            </div>
          ))}
        </div>
        {first && (
          <div className="mt-2 flex items-end gap-3">
            <p className="mb-2.5 flex-1 text-quiet">
              {order
                ? `ordered by ${tables[order.table]?.table}.${order.column}, ${order.down ? "the greatest" : "the least"} first`
                : "in no order"}
            </p>
            <span className="w-28">
              <Setting inline label="Most rows">
                <Text mono type="number" label="Most rows" value={most} onChange={setMost} placeholder="all" />
              </Setting>
            </span>
            <button type="submit" className="btn btn-go mb-2.5">
              Write the statement
            </button>
          </div>
        )}
        {bad && (
          <p role="alert" className="text-dead">
            {bad}
          </p>
        )}
      </form>
    </Dialog>
  );
}

/** A table of the query: its columns to choose from, and the tables that it leads to. */
function TablePart(p: {
  connection: string;
  table: Selected;
  place: number;
  joined: Selected[];
  onChange: (t: Selected) => void;
  onJoin: (t: Selected) => void;
  onDrop?: () => void;
  onWhere: (column: string) => void;
  onOrder: (column: string) => void;
}) {
  const described = useDescribed(p.connection, p.table.table);
  const chosen = p.table.columns ?? [];
  const toggle = (name: string) =>
    p.onChange({
      ...p.table,
      columns: chosen.includes(name) ? chosen.filter((c) => c !== name) : [...chosen, name],
    });
  return (
    <fieldset className="mb-2 border border-line p-2" aria-label={p.table.table}>
      <div className="mb-1 flex items-center gap-3">
        <b className="data">{p.table.table}</b>
        {p.place > 0 && (
          <>
            <span className="text-quiet">
              where {(p.table.on ?? []).join(", ")} is {p.joined[p.table.with ?? 0]?.table}.
              {(p.table.to ?? []).join(", ")}
            </span>
            <label className="flex items-center gap-1.5">
              <input
                type="checkbox"
                checked={!!p.table.missing}
                onChange={(e) => p.onChange({ ...p.table, missing: e.target.checked })}
              />
              keep rows that have none
            </label>
          </>
        )}
        <span className="flex-1" />
        {p.onDrop && (
          <button type="button" className="btn-bare" onClick={p.onDrop}>
            leave it out
          </button>
        )}
      </div>
      {described.error && <p className="text-dead">{says(described.error)}</p>}
      <div className="grid grid-cols-3 gap-x-4">
        {described.data?.columns.map((c) => (
          <div key={c.name} className="flex items-baseline gap-1.5">
            <label className="flex min-w-0 flex-1 items-baseline gap-1.5">
              <input type="checkbox" checked={chosen.includes(c.name)} onChange={() => toggle(c.name)} />
              <span className="data truncate">{c.name}</span>
              <span className="truncate text-[12.5px] text-quiet">
                {c.type}
                {c.key && ", key"}
              </span>
            </label>
            <button
              type="button"
              className="btn-bare text-[12.5px]"
              aria-label={`Where ${c.name}`}
              onClick={() => p.onWhere(c.name)}
            >
              where
            </button>
            <button
              type="button"
              className="btn-bare text-[12.5px]"
              aria-label={`Order by ${c.name}`}
              onClick={() => p.onOrder(c.name)}
            >
              order
            </button>
          </div>
        ))}
      </div>
      {(described.data?.references.length ?? 0) > 0 && (
        <p className="mt-1 flex flex-wrap gap-x-3 text-[12.5px] text-quiet">
          with
          {described.data?.references.map((r) => (
            <button
              key={`${r.table} ${r.to.join()} ${r.columns.join()} ${r.inward}`}
              type="button"
              className="btn-bare"
              onClick={() => p.onJoin({ table: r.table, columns: [], with: p.place, on: r.to, to: r.columns })}
            >
              + {r.table}{" "}
              <span className="font-normal text-quiet">
                {r.inward ? "whose" : "over"} {r.inward ? `${r.to.join(", ")} leads here` : r.columns.join(", ")}
              </span>
            </button>
          ))}
        </p>
      )}
    </fieldset>
  );
}
