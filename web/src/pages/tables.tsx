import { useState } from "react";
import { useNavigate } from "react-router";
import { useTables } from "../api/queries";
import { useMay } from "../api/session";
import { useAddress } from "../ui/address";
import { Empty, PageHead, Trouble } from "../ui/parts";
import { number, Time } from "../ui/time";
import { NewTable } from "./new-table";
import { OpenTable } from "./table";
import { keysOf, UsedBy } from "./table-parts";

export default function TablesPage() {
  const may = useMay();
  const tables = useTables();
  const [search, setSearch] = useAddress();
  const [making, setMaking] = useState(false);
  const open = search.get("open") ?? "";
  const chosen = tables.data?.find((t) => t.name === open);
  const go = useNavigate();
  if (chosen) return <OpenTable key={chosen.name} table={chosen} onClose={() => setSearch({})} />;
  return (
    <>
      <PageHead title="Tables" facts="reference data that flows look up in, and the keys that pair two systems">
        {may("publish") && (
          <button type="button" className="btn btn-go" onClick={() => setMaking(true)}>
            New table
          </button>
        )}
      </PageHead>
      {tables.error && <Trouble error={tables.error} />}
      <div className="min-h-0 flex-1 overflow-auto">
        {tables.data?.length === 0 ? (
          <Empty title="No table yet">
            <p>
              A table holds what messages do not say: the branch of a copy, the tariff for a weight, which key of one
              system is which key of another.{" "}
              <button type="button" className="btn-bare" onClick={() => setMaking(true)}>
                Make one from a CSV or JSON file
              </button>
              , then find its rows with a look-up step.
            </p>
          </Empty>
        ) : (
          <table className="grid-table">
            <thead>
              <tr>
                <th>Table</th>
                <th>Kind</th>
                <th>Keys</th>
                <th className="!text-right">Rows</th>
                <th className="!text-right">Version</th>
                <th>Changed</th>
                <th>Used by</th>
              </tr>
            </thead>
            <tbody>
              {tables.data?.map((t) => (
                <tr key={t.name} data-table={t.name}>
                  <td>
                    <button type="button" className="btn-bare" onClick={() => setSearch({ open: t.name })}>
                      {t.title}
                    </button>{" "}
                    {t.title !== t.name && <span className="data text-quiet">{t.name}</span>}
                  </td>
                  <td>{t.kind}</td>
                  <td className="data">{keysOf(t)}</td>
                  <td className="text-right">
                    {t.loading ? `${number(t.loading.done)} of ${number(t.loading.total)}…` : number(t.rows)}
                  </td>
                  <td className="text-right">{number(t.version)}</td>
                  <td>
                    <Time at={t.updatedAt} withDate />
                  </td>
                  <td>
                    <UsedBy table={t} go={(f) => go(`/flows/${f}`)} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
      {making && (
        <NewTable
          onClose={() => setMaking(false)}
          onMade={(n) => {
            setMaking(false);
            setSearch({ open: n });
          }}
        />
      )}
    </>
  );
}
