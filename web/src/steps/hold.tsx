import { Code } from "../ui/code";
import { Select, Setting } from "../ui/parts";
import {
  Chip,
  Choose,
  Expression,
  errorAt,
  type FormProps,
  NamedList,
  SpanSetting,
  type StepView,
  withSetting,
} from "./kit";
import { keyText } from "./lookup";
import { KeySetting } from "./table-key";

// biome-ignore lint/suspicious/noExplicitAny: what it waits for is a part of the step's document
type Row = any;

function Form(p: FormProps) {
  const until = p.step.until as string | Row | undefined;
  const kind = until === undefined ? "for" : typeof until === "object" ? "row" : "until";
  const choose = (k: string) => {
    const { for: _f, until: _u, within: _w, late: _l, ...rest } = p.step;
    const next: Record<string, object> = {
      for: { for: "10m" },
      until: { until: "body.at" },
      row: { until: { in: p.names.tables[0] ?? "table", key: "body.key" } },
    };
    p.change({ ...rest, ...next[k] } as FormProps["step"], "");
  };
  const put = (name: string, v: unknown, mark = name) => p.change(withSetting(p.step, name, v), mark);
  return (
    <div className="p-3">
      <Setting label="Held" error={errorAt(p, "")}>
        <Select
          label="Held"
          value={kind}
          onChange={choose}
          options={[
            ["for", "for a time"],
            ["until", "until a time"],
            ["row", "until a row of a table fits"],
          ]}
        />
      </Setting>
      {kind === "for" && <SpanSetting {...p} setting="for" label="For" />}
      {kind === "until" && (
        <Expression {...p} label="Until" setting="until" hint="a point in time such as 2026-05-04T09:00:00Z" />
      )}
      {kind === "row" && (
        <>
          <KeySetting
            {...p}
            pointer={`${p.pointer}/until`}
            hop={until}
            at=""
            onHop={(h, mark) => put("until", h, `until${mark}`)}
          />
          <Setting label="Fits when" hint="over row; any row where it is empty" error={errorAt(p, "until/fits")}>
            <Code
              key={`${p.pointer}/fits`}
              label="Fits when"
              language="expression"
              value={String(until.fits ?? "")}
              onChange={(v) => put("until", withSetting(until, "fits", v || undefined), "fits")}
              completions={p.completions}
              invalid={!!errorAt(p, "until/fits")}
            />
          </Setting>
          <div className="flex gap-2">
            <SpanSetting {...p} setting="within" label="Waited for" />
            <Choose
              {...p}
              inline
              label="Then"
              setting="late"
              options={[
                ["dead letter", "it is a dead letter"],
                ["go on", "it goes on without"],
                ["turn away", "it is turned away"],
              ]}
            />
          </div>
          <NamedList id="tables" names={p.names.tables} />
        </>
      )}
    </div>
  );
}

export const hold: StepView = {
  verb: "Hold",
  sentence: (s, usual) => {
    const until = s.until as string | Row | undefined;
    if (until === undefined) return `for ${s.for ?? ""}`;
    if (typeof until !== "object")
      return (
        <>
          until <Chip>{until}</Chip>
        </>
      );
    return (
      <>
        until <Chip>{keyText(until.key)}</Chip> is in {until.in}
        {until.fits && (
          <>
            {" "}
            and <Chip>{until.fits}</Chip>
          </>
        )}
        , for {s.within ?? usual("within")} at most
      </>
    );
  },
  Form,
  begin: () => ({ for: "10m" }),
};
