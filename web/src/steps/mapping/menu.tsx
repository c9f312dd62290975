import { useQuery } from "@tanstack/react-query";
import { Popover } from "radix-ui";
import { useState } from "react";
import { call, type Schemas } from "../../api/client";
import { earlierRoot } from "../../model/earlier";
import type { Loop } from "./fields";

type Offer = Schemas["FormOffer"];
type Answer = { value: string | null; offers: Offer[]; read: Schemas["Read"] };

const short = (json: string) => (json.length > 44 ? `${json.slice(0, 43)}…` : json);

/** What becomes of a value: each choice with its result here, and the expression last. */
export function FormMenu(p: {
  label: string;
  expression: string;
  seen: Schemas["Seen"];
  loops: Loop[];
  tables: Record<string, string[]>;
  onChoose: (expression: string) => void;
  onWrite: () => void;
}) {
  const [open, setOpen] = useState(false);
  const [find, setFind] = useState("");
  // What a form was put over, so that another one takes its place and does not stand above it.
  const [over, setOver] = useState<string | null>(null);
  const on = over ?? p.expression;
  const earlier = p.seen.earlier?.filter((e) => on.includes(earlierRoot(e.name ?? "")));
  const body = { expression: on, seen: { ...p.seen, earlier, loops: p.loops }, tables: p.tables };
  const q = useQuery({
    queryKey: ["forms", JSON.stringify(body)],
    queryFn: async ({ signal }) => (await call<Answer>("/api/v1/forms", { method: "POST", body, signal })).value,
    enabled: open && on !== "",
    retry: false,
  });
  const offers = (q.data?.offers ?? []).filter((o) =>
    `${o.words} ${o.value}`.toLowerCase().includes(find.toLowerCase()),
  );
  const groups = [...new Set(offers.map((o) => o.group))];
  const choose = (expression: string) => {
    p.onChoose(expression);
    setOpen(false);
  };
  return (
    <Popover.Root
      open={open}
      onOpenChange={(v) => {
        setOpen(v);
        setFind("");
        setOver(null);
      }}
    >
      <Popover.Trigger asChild>
        <button type="button" className="btn-bare px-1.5" aria-label={`What becomes of ${p.label}`}>
          ▾
        </button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          className="menu w-[430px] overflow-auto"
          style={{ maxHeight: "min(60vh, var(--radix-popover-content-available-height))" }}
          collisionPadding={8}
        >
          <input
            aria-label="Find a form"
            className="field mb-1"
            placeholder={p.expression ? "What becomes of it, here" : "Pick a value first"}
            value={find}
            onChange={(e) => setFind(e.target.value)}
          />
          {q.data && q.data.read.forms.length > 0 && over === null && (
            <Choice words="as it is" value="" onClick={() => choose(q.data.read.source)} />
          )}
          {groups.map((g) => (
            <section key={g} aria-label={g}>
              <h3 className="head px-2 pt-1.5">{g}</h3>
              {offers
                .filter((o) => o.group === g)
                .map((o) => (
                  <Choice key={o.expression} words={o.words} value={o.value} onClick={() => choose(o.expression)} />
                ))}
            </section>
          ))}
          {q.isFetched && offers.length === 0 && p.expression && (
            <p className="px-2 py-1 text-quiet">
              {q.error ? "It cannot be worked out here." : "Nothing else fits it here."}
            </p>
          )}
          {q.data && q.data.read.forms.length > 0 && (
            <button
              type="button"
              className="btn-bare px-2 py-1"
              onClick={() => setOver(over === null ? q.data.read.source : null)}
            >
              {over === null ? "something else of it" : "one more, over what it has"}
            </button>
          )}
          <button
            type="button"
            className="block w-full border-t border-line px-2 py-1.5 text-left text-quiet hover:bg-mark"
            onClick={() => {
              setOpen(false);
              p.onWrite();
            }}
          >
            write it as an expression
          </button>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function Choice(p: { words: string; value: string; onClick: () => void }) {
  return (
    <button
      type="button"
      className="flex w-full items-baseline gap-3 px-2 py-0.5 text-left hover:bg-mark focus:bg-mark"
      onClick={p.onClick}
    >
      <span className="min-w-0 flex-1">{p.words}</span>
      <span className="data shrink-0 text-done">{short(p.value)}</span>
    </button>
  );
}
