import { useState } from "react";
import { toast } from "sonner";
import { call } from "../api/client";
import { queryClient, useStandIn, useStandIns } from "../api/queries";
import { useAddress } from "../ui/address";
import { Empty, PageHead, says, Trouble } from "../ui/parts";
import { number, useNow } from "../ui/time";
import { doing, OneStandIn } from "./stand-in";
import { StandInForm } from "./stand-in-form";

export default function StandInsPage() {
  const all = useStandIns();
  const [search, setSearch] = useAddress();
  const open = search.get("open") ?? all.data?.[0]?.name ?? "";
  const one = useStandIn(open);
  const [making, setMaking] = useState(false);
  const now = useNow();
  return (
    <>
      <PageHead title="Stand-ins" facts="simulated outside systems: see what they received, and say what they do next">
        <button type="button" className="btn btn-go" onClick={() => setMaking(true)}>
          Make a stand-in
        </button>
      </PageHead>
      {all.error && <Trouble error={all.error} />}
      {all.data?.length === 0 ? (
        <Empty title="No stand-in yet">
          <p className="mb-3">
            A stand-in takes the place of an outside system while a flow is made and tried: connections reach it as
            stand-in://name. Make your own, or look at those of the demo.
          </p>
          <button
            type="button"
            className="btn"
            onClick={() =>
              call("/api/v1/demo", { method: "POST" }).then(
                () => queryClient.invalidateQueries(),
                (e) => toast.error(says(e)),
              )
            }
          >
            Load the demo
          </button>
        </Empty>
      ) : (
        <div className="grid min-h-0 flex-1 grid-cols-[320px_1fr]">
          <aside className="overflow-auto border-r border-line">
            {all.data?.map((s) => (
              <button
                key={s.name}
                type="button"
                aria-current={s.name === open}
                className={`w-full border-b border-line px-4 py-2.5 text-left hover:bg-mark ${s.name === open ? "bg-sheet shadow-[inset_4px_0_var(--color-deep)]" : ""}`}
                onClick={() => setSearch({ open: s.name })}
              >
                <b>{s.title}</b> <span className="float-right">{number(s.received)}</span>
                <span className="block text-quiet">{doing(s.behaviour, now)}</span>
              </button>
            ))}
          </aside>
          {one.data && (
            <OneStandIn key={one.data.name} s={one.data} now={now} onGone={() => setSearch({}, { replace: true })} />
          )}
        </div>
      )}
      {making && (
        <StandInForm
          of={null}
          onClose={() => setMaking(false)}
          onDone={(name) => {
            setMaking(false);
            setSearch({ open: name });
          }}
        />
      )}
    </>
  );
}
