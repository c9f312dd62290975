import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link } from "react-router";
import { get, type Schemas, type Transaction } from "../api/client";
import { useInspection, useTransaction, useVersion } from "../api/queries";
import { type FlowDocument, rowKey, rowsOf } from "../model/model";
import { IntakeSentence } from "../sheet/intake";
import { type Focus, Sheet } from "../sheet/sheet";
import { useAddress } from "../ui/address";
import { PageHead, Trouble } from "../ui/parts";

/** Two transactions of a flow side by side, with the first place where they part and the value that did it. */
export default function BesidePage() {
  const [search, setSearch] = useAddress();
  const a = search.get("a") ?? "";
  const one = useTransaction(a);
  const like = useQuery({
    queryKey: ["transactions", a, "like"],
    enabled: a !== "" && !search.get("b"),
    retry: false,
    queryFn: () => get<Transaction>(`/api/v1/transactions/${a}/like`),
  });
  const b = search.get("b") ?? like.data?.id ?? "";
  const other = useTransaction(b);
  const parted = useQuery({
    queryKey: ["transactions", a, "beside", b],
    enabled: a !== "" && b !== "",
    queryFn: () => get<Schemas["Beside"]>(`/api/v1/transactions/${a}/beside/${b}`),
  });
  const first = useInspection(a);
  const second = useInspection(b);
  const version = useVersion(one.data?.flow ?? "", one.data?.version ?? 0);
  const doc = version.data?.document as FlowDocument | undefined;
  const rows = useMemo(() => (doc ? rowsOf(doc) : []), [doc]);
  const parting = parted.data?.parting;
  const there = Math.max(
    0,
    rows.findIndex((r) => r.key === rowKey(parting?.path ?? "")),
  );
  const [focus, setFocus] = useState<Focus | null>(null);
  const [text, setText] = useState("");
  if (one.error) return <Trouble error={one.error} />;
  const name = (t: { reference: string; id: string } | undefined) => (t ? t.reference || t.id.slice(0, 13) : "…");
  const value = (v: string) => (v === "" ? "nothing" : v.length > 80 ? `${v.slice(0, 80)}…` : v);
  return (
    <>
      <PageHead title={`${name(one.data)} beside ${b ? name(other.data) : "another"}`} facts={one.data?.flow}>
        <form
          className="flex gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            if (text.trim()) setSearch({ a, b: text.trim() });
          }}
        >
          <input
            aria-label="The id of another transaction"
            className="field data !w-72"
            placeholder="the id of another transaction"
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
          <button type="submit" className="btn">
            Beside this one
          </button>
        </form>
      </PageHead>
      <div className="border-b border-line bg-sheet px-4 py-2" data-testid="parting">
        {like.error && <p>No other message of the flow has come through; name one to look at beside it.</p>}
        {parted.error && <Trouble error={parted.error} />}
        {parted.data && !parting && <p>They did all alike.</p>}
        {parting && (
          <p>
            They part at <b className="text-deep">{parting.step}</b>: {parting.was || "not reached"} here and{" "}
            {parting.is || "not reached"} there
            {parting.values.length > 0 ? ", because " : "."}
            {parting.values.slice(0, 4).map((v, i) => (
              <span key={v.name}>
                {i > 0 && ", "}
                <span className="chip">{v.name}</span> is <span className="data">{value(v.was)}</span> here and{" "}
                <span className="data">{value(v.is)}</span> there
                {v.table && (
                  <>
                    {" "}
                    (
                    <Link className="underline" to={`/tables?open=${v.table}`}>
                      {v.table}
                    </Link>
                    , {v.wasFound || "no row"} and {v.isFound || "no row"})
                  </>
                )}
              </span>
            ))}
            {parting.values.length > 0 && "."}
          </p>
        )}
      </div>
      {doc && (
        <Sheet
          label="Two transactions side by side"
          doc={doc}
          rows={rows}
          focus={focus ?? { row: there, column: 0 }}
          onFocus={setFocus}
          columns={[
            { key: a, title: name(one.data), sub: one.data?.state, rehearsal: first.data },
            ...(b ? [{ key: b, title: name(other.data), sub: other.data?.state, rehearsal: second.data }] : []),
          ]}
          intakeText={<IntakeSentence intake={doc.intake} />}
          stepsHead={`Steps, version ${one.data?.version}`}
        />
      )}
    </>
  );
}
