import type { Way } from "../model/model";
import { Code } from "../ui/code";
import { Select, Setting, Text } from "../ui/parts";
import { Chip, errorAt, type FormProps, type StepView, withSetting } from "./kit";
import { MapForm } from "./map";

type Gather = "all" | { first?: number; fits?: string } | undefined;

const kindOf = (g: Gather) => (typeof g !== "object" ? "all" : g.fits !== undefined ? "fits" : "first");

function Form(p: FormProps) {
  const ways = (p.step.ways ?? []) as Way[];
  const gather = p.step.gather as Gather;
  const kind = kindOf(gather);
  const put = (name: string, v: unknown, mark = name) => p.change(withSetting(p.step, name, v), mark);
  const fits = typeof gather === "object" ? (gather.fits ?? "") : "";
  return (
    <>
      <div className="p-3 pb-0">
        <div className="flex gap-2">
          <Setting inline label="Goes on with">
            <Select
              label="Goes on with"
              value={kind}
              onChange={(k) =>
                put(
                  "gather",
                  k === "all" ? undefined : k === "first" ? { first: 1 } : { fits: "reply.status == 200" },
                  "",
                )
              }
              options={[
                ["all", "the answers of all ways"],
                ["first", "so many answers"],
                ["fits", "the first answer that fits"],
              ]}
            />
          </Setting>
          {kind === "first" && (
            <Setting inline label="So many" error={errorAt(p, "gather/first")}>
              <Text
                mono
                type="number"
                label="So many"
                value={String((gather as { first?: number }).first ?? 1)}
                onChange={(v) => put("gather", { first: Math.max(1, Math.trunc(Number(v) || 1)) })}
              />
            </Setting>
          )}
          <Setting inline label="Within" hint="then what is missing is null" error={errorAt(p, "within")}>
            <Text
              mono
              label="Within"
              placeholder={p.usual("within")}
              value={String(p.step.within ?? "")}
              onChange={(v) => put("within", v)}
              invalid={!!errorAt(p, "within")}
            />
          </Setting>
        </div>
        {kind === "fits" && (
          <Setting label="Fits when" hint="over reply: status, headers, body, way" error={errorAt(p, "gather/fits")}>
            <Code
              key={`${p.pointer}/fits`}
              label="Fits when"
              language="expression"
              value={fits}
              onChange={(v) => put("gather", { fits: v })}
              completions={p.completions}
              invalid={!!errorAt(p, "gather/fits")}
            />
          </Setting>
        )}
        <Setting label="Ways" hint="their steps stand below; each answer is replies.name">
          {ways.map((w, i) => (
            <div key={i} className="mb-1 flex gap-1.5">
              <Text
                mono
                label={`Name of way ${i + 1}`}
                value={w.name}
                invalid={!!errorAt(p, `ways/${i}/name`)}
                onChange={(name) =>
                  put(
                    "ways",
                    ways.map((x, j) => (j === i ? { ...x, name } : x)),
                    `name${i}`,
                  )
                }
              />
              <button
                type="button"
                className="btn !px-2"
                aria-label={`Remove way ${w.name}`}
                disabled={ways.length === 1}
                onClick={() =>
                  put(
                    "ways",
                    ways.filter((_, j) => j !== i),
                    "",
                  )
                }
              >
                −
              </button>
            </div>
          ))}
          <button
            type="button"
            className="btn-bare"
            onClick={() => put("ways", [...ways, { name: `way-${ways.length + 1}`, steps: [] }], "")}
          >
            + way
          </button>
        </Setting>
        <label className="mb-2 flex items-center gap-1.5">
          <input
            type="checkbox"
            checked={p.step.fields !== undefined}
            onChange={(e) =>
              p.change(
                e.target.checked
                  ? withSetting(
                      p.step,
                      "fields",
                      ways.map((w) => ({ to: `/${w.name}`, from: pathTo(w.name) })),
                    )
                  : withSetting(withSetting(p.step, "fields", undefined), "as", undefined),
                "",
              )
            }
          />
          make a new body of the answers
        </label>
      </div>
      {p.step.fields !== undefined && <MapForm {...p} within />}
    </>
  );
}

const pathTo = (way: string) => (/^[A-Za-z_]\w*$/.test(way) ? `replies.${way}` : `replies[${JSON.stringify(way)}]`);

export const scatter: StepView = {
  verb: "Scatter",
  sentence: (s) => {
    const g = s.gather as Gather;
    const ways = (s.ways ?? []) as Way[];
    return (
      <>
        to {ways.length} {ways.length === 1 ? "way" : "ways"} side by side, until{" "}
        {typeof g !== "object" ? (
          "all have answered"
        ) : g.fits !== undefined ? (
          <>
            one fits <Chip>{g.fits}</Chip>
          </>
        ) : (
          `${g.first} have answered`
        )}
        , within {s.within}
      </>
    );
  },
  Form,
  begin: () => ({
    within: "10s",
    ways: [
      { name: "one", steps: [] },
      { name: "two", steps: [] },
    ],
  }),
};
