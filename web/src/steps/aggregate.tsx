import { Code } from "../ui/code";
import { Select, Setting, Text } from "../ui/parts";
import { Chip, Count, CSVSettings, Expression, errorAt, type FormProps, type StepView, withSetting } from "./kit";
import { MapForm } from "./map";

type Close = { count?: number; when?: string; quiet?: string; age?: string; parts?: boolean };

function Form(p: FormProps) {
  const close = (p.step.close ?? {}) as Close;
  const put = (name: string, v: unknown) => p.change(withSetting(p.step, name, v), name);
  const putClose = (name: keyof Close, v: unknown) => {
    const { [name]: _, ...rest } = close;
    p.change(withSetting(p.step, "close", v === undefined ? rest : { ...rest, [name]: v }), `close/${name}`);
  };
  const span = (name: "quiet" | "age", label: string, hint: string, placeholder: string) => (
    <Setting inline label={label} hint={hint} error={errorAt(p, `close/${name}`)}>
      <Text
        mono
        label={label}
        placeholder={placeholder}
        value={close[name] ?? ""}
        onChange={(v) => putClose(name, v || undefined)}
        invalid={!!errorAt(p, `close/${name}`)}
      />
    </Setting>
  );
  const result = String(p.step.result ?? p.usual("result"));
  return (
    <>
      <div className="p-3 pb-0">
        <Expression {...p} label="Key" setting="key" hint="messages of the same value belong together" />
        <Expression
          {...p}
          label="What each brings"
          setting="item"
          optional
          hint="body, and inside of a split part, unless it says otherwise"
        />
        <p className="head mb-1">It closes, whichever comes first</p>
        <div className="flex gap-2">
          <Setting inline label="By count" hint="so many members" error={errorAt(p, "close/count")}>
            <Text
              mono
              type="number"
              label="By count"
              value={String(close.count ?? "")}
              onChange={(v) => putClose("count", Number(v) || undefined)}
            />
          </Setting>
          {span("quiet", "By quiet", "no other for so long", "30s")}
          {span("age", "By age", "since the first", "20m")}
        </div>
        <Setting
          label="By condition"
          hint="over group.count, group.newest, group.items"
          error={errorAt(p, "close/when")}
        >
          <Code
            key={`${p.pointer}/when`}
            label="By condition"
            language="expression"
            value={String(close.when ?? "")}
            onChange={(v) => putClose("when", v || undefined)}
            completions={p.completions}
            invalid={!!errorAt(p, "close/when")}
          />
        </Setting>
        <label className="mb-1 flex items-center gap-1.5">
          <input
            type="checkbox"
            checked={!!close.parts}
            onChange={(e) => putClose("parts", e.target.checked || undefined)}
          />
          when all parts of the split around it are here
        </label>
        {(errorAt(p, "close/parts") ?? errorAt(p, "close")) && (
          <p role="alert" className="mb-2 text-[12.5px] text-wait">
            {errorAt(p, "close/parts") ?? errorAt(p, "close")}
          </p>
        )}
        <div className="mt-2 flex gap-2">
          <Setting inline label="Its body is" error={errorAt(p, "fields")}>
            <Select
              label="Its body is"
              value={result}
              onChange={(v) => {
                const next = withSetting(p.step, "result", v === p.usual("result") ? undefined : v);
                p.change(
                  v === "map" && !p.step.fields
                    ? withSetting(next, "fields", [{ to: "/items", from: "group.items" }])
                    : next,
                  "",
                );
              }}
              options={[
                ["list", "the list of its items"],
                ["text", "their texts, joined"],
                ["csv", "CSV, a row each"],
                ["map", "what the fields below say"],
              ]}
            />
          </Setting>
          {result === "text" && (
            <Setting inline label="Between them" hint="a line break unless it says otherwise">
              <Text
                mono
                label="Between them"
                value={String(p.step.separator ?? "")}
                onChange={(v) => put("separator", v || undefined)}
              />
            </Setting>
          )}
          <Setting inline label="A late member">
            <Select
              label="A late member"
              value={String(p.step.late ?? p.usual("late"))}
              onChange={(v) => {
                const next = withSetting(p.step, "late", v === p.usual("late") ? undefined : v);
                p.change(v === p.usual("late") ? withSetting(next, "late-for", undefined) : next, "");
              }}
              options={[
                ["new group", "opens a new group"],
                ["turn away", "is turned away"],
                ["add", "goes on at once, as an addition"],
              ]}
            />
          </Setting>
          {p.step.late && (
            <Setting inline label="Late within" error={errorAt(p, "late-for")}>
              <Text
                mono
                label="Late within"
                placeholder={p.usual("late-for")}
                value={String(p.step["late-for"] ?? "")}
                onChange={(v) => put("late-for", v || undefined)}
              />
            </Setting>
          )}
        </div>
        {result === "csv" && <CSVSettings {...p} header="with a row of the columns' names" />}
      </div>
      {result === "map" && <MapForm {...p} within />}
      <details className="border-t border-line px-3 py-1.5">
        <summary className="head cursor-pointer">Duplicates and limits</summary>
        <div className="mt-2">
          <Expression
            {...p}
            label="Unique by"
            setting="unique"
            optional
            hint="a member whose value is in the group already is turned away"
          />
          <div className="flex gap-2">
            <Count {...p} setting="limit" label="Members at most" />
            <Count {...p} setting="bytes" label="Bytes of a group at most" />
            <Count {...p} setting="groups" label="Groups open at most" />
          </div>
        </div>
      </details>
    </>
  );
}

export const aggregate: StepView = {
  verb: "Aggregate",
  sentence: (s) => {
    const c = (s.close ?? {}) as Close;
    const by = [
      c.count && `${c.count} members`,
      c.when && "a condition",
      c.quiet && `${c.quiet} of quiet`,
      c.age && `${c.age}`,
      c.parts && "all parts are here",
    ].filter(Boolean);
    return (
      <>
        by <Chip>{String(s.key ?? "")}</Chip> until {by.join(" or ")}
        {s.result && s.result !== "list" && `, as ${s.result}`}
      </>
    );
  },
  Form,
  begin: () => ({ key: "body.key", close: { count: 10, age: "10m" } }),
};
