import { Setting, Text } from "../ui/parts";
import { Chip, Choose, errorAt, type FormProps, NamedList, Pairs, type StepView, withSetting } from "./kit";
import { KeySetting } from "./table-key";

// biome-ignore lint/suspicious/noExplicitAny: a hop is a part of the step's document
type Hop = any;

function Form(p: FormProps) {
  const put = (name: string, v: unknown, mark = name) => p.change(withSetting(p.step, name, v), mark);
  const hops = (p.step.then ?? []) as Hop[];
  const putHops = (then: Hop[], mark: string) => put("then", then.length ? then : undefined, mark);
  return (
    <div className="p-3">
      <KeySetting
        {...p}
        hop={p.step}
        at=""
        onHop={(h, mark) => p.change({ ...p.step, ...h } as FormProps["step"], mark)}
      />
      {hops.map((h, i) => (
        <div key={i} className="border-l-2 border-line pl-2">
          <KeySetting
            {...p}
            hop={h}
            at={`then/${i}/`}
            onHop={(next, mark) =>
              putHops(
                hops.map((x, j) => (j === i ? next : x)),
                mark,
              )
            }
            onRemove={() =>
              putHops(
                hops.filter((_, j) => j !== i),
                "",
              )
            }
          />
        </div>
      ))}
      <button
        type="button"
        className="btn-bare mb-2"
        onClick={() => putHops([...hops, { in: p.names.tables[0] ?? "table", key: "row.key" }], "")}
      >
        + and from there
      </button>
      <div className="flex gap-2">
        <Setting inline label="The row stands under" error={errorAt(p, "into")}>
          <Text
            mono
            label="The row stands under"
            placeholder={p.step.id}
            value={String(p.step.into ?? "")}
            onChange={(v) => put("into", v || undefined)}
          />
        </Setting>
        <Choose
          {...p}
          inline
          label="Where there is no row"
          setting="missing"
          options={[
            ["error", "it fails"],
            ["skip", "nothing is set"],
            ["default", "a row stands in"],
          ]}
        />
      </div>
      {p.step.missing === "default" && (
        <Pairs {...p} literal label="The row that stands in" setting="default" nameHint="column" />
      )}
      <NamedList id="tables" names={p.names.tables} />
    </div>
  );
}

export const lookup: StepView = {
  verb: "Look up",
  sentence: (s) => {
    const hops = [s, ...((s.then ?? []) as Hop[])];
    return (
      <>
        {hops.map((h, i) => (
          <span key={i}>
            {i > 0 && ", from there "}
            <Chip>{keyText(h.key)}</Chip> in {String(h.in ?? "")}
            {h.at !== undefined && (
              <>
                {" "}
                at <Chip>{String(h.at)}</Chip>
              </>
            )}
          </span>
        ))}{" "}
        into {String(s.into ?? s.id)}
        {s.missing === "skip" && ", if it is there"}
        {s.missing === "default" && ", or a default row"}
      </>
    );
  },
  Form,
  begin: () => ({ in: "table", key: "body.key" }),
};

export const keyText = (key: unknown) =>
  key && typeof key === "object"
    ? Object.entries(key)
        .map(([c, e]) => `${c}: ${e}`)
        .join(", ")
    : String(key ?? "");
