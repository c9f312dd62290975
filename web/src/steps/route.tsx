import type { Way } from "../model/model";
import { Code } from "../ui/code";
import { Setting, Text } from "../ui/parts";
import { Choose, errorAt, type FormProps, type StepView, withSetting } from "./kit";

function Form(p: FormProps) {
  const ways = (p.step.ways ?? []) as Way[];
  const put = (next: Way[], mark: string) => p.change(withSetting(p.step, "ways", next), mark);
  return (
    <div className="p-3">
      <Choose
        {...p}
        label="Take"
        setting="take"
        options={[
          ["first", "the first way that fits"],
          ["every", "every way that fits, each on its own copy"],
        ]}
      />
      {ways.map((w, i) => (
        <Setting key={i} label={`Way ${i + 1}`} error={errorAt(p, `ways/${i}/when`) ?? errorAt(p, `ways/${i}/name`)}>
          <div className="flex gap-1.5">
            <div className="w-32 shrink-0">
              <Text
                label={`Name of way ${i + 1}`}
                value={w.name}
                onChange={(name) =>
                  put(
                    ways.map((x, j) => (j === i ? { ...x, name } : x)),
                    `name${i}`,
                  )
                }
              />
            </div>
            <div
              className="min-w-0 flex-1"
              onFocus={() =>
                p.onFill((path) =>
                  put(
                    ways.map((x, j) => (j === i ? { ...x, when: path } : x)),
                    "",
                  ),
                )
              }
            >
              <Code
                key={`${p.pointer}/${i}`}
                label={`Condition of ${w.name}`}
                language="expression"
                value={String(w.when ?? "")}
                onChange={(when) =>
                  put(
                    ways.map((x, j) => (j === i ? { ...x, when } : x)),
                    `when${i}`,
                  )
                }
                completions={p.completions}
                invalid={!!errorAt(p, `ways/${i}/when`)}
              />
            </div>
            <button
              type="button"
              className="btn !px-2"
              aria-label={`Remove way ${w.name}`}
              disabled={ways.length === 1}
              onClick={() =>
                put(
                  ways.filter((_, j) => j !== i),
                  "",
                )
              }
            >
              −
            </button>
          </div>
        </Setting>
      ))}
      <div className="flex gap-4">
        <button
          type="button"
          className="btn-bare"
          onClick={() => put([...ways, { name: `way-${ways.length + 1}`, when: "true", steps: [] }], "")}
        >
          + way
        </button>
        {p.step.otherwise ? (
          <button
            type="button"
            className="btn-bare"
            onClick={() => p.change(withSetting(p.step, "otherwise", undefined), "")}
          >
            − otherwise
          </button>
        ) : (
          <button
            type="button"
            className="btn-bare"
            onClick={() => p.change(withSetting(p.step, "otherwise", { steps: [] }), "")}
          >
            + otherwise
          </button>
        )}
      </div>
    </div>
  );
}

export const route: StepView = {
  verb: "Route",
  sentence: (s) => (s.take === "every" ? "along every way that fits" : "to the first way that fits"),
  Form,
  begin: () => ({ take: "first", ways: [{ name: "one", when: "true", steps: [] }], otherwise: { steps: [] } }),
};
