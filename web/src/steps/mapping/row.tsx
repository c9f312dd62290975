import type { Schemas } from "../../api/client";
import { Code } from "../../ui/code";
import { Select, Text } from "../../ui/parts";
import type { FormProps } from "../kit";
import { Chooser } from "./chooser";
import { ConditionEditor } from "./condition";
import { isGroup, isLoop, type MapField, type Row } from "./fields";
import { FormMenu } from "./menu";
import type { Source } from "./paths";
import type { Read } from "./use-map";

type Props = {
  p: FormProps;
  r: Row;
  as: string;
  words: Record<string, Read>;
  conditions: Record<string, string>;
  seen: { outcome: string; value?: string; error?: string } | undefined;
  seenAt: Schemas["Seen"];
  tables: Record<string, string[]>;
  armed: boolean;
  open: boolean;
  picked: string | null;
  lit: boolean;
  like: Source | undefined;
  error: string | undefined;
  place: string;
  choosing: Omit<Parameters<typeof Chooser>[0], "label"> | false;
  onArm: () => void;
  onFill: (path: string) => void;
  onOpen: () => void;
  onEdit: (part: Partial<MapField>, mark?: string) => void;
  onRemove: () => void;
  onAddBelow: () => void;
  onHover: (on: boolean) => void;
};

/** One line of the target: what it is called, its value here, and where it comes from. */
export function TargetRow(x: Props) {
  const { r } = x;
  const f = r.field;
  const name = r.to || (r.depth > 0 && !r.line?.list ? "the item itself" : (r.line?.name ?? ""));
  const from = f && isLoop(f) ? f.each : f?.from;
  const label = short(name) || (f && isGroup(f) ? "the condition" : "the line");
  return (
    <div
      role="option"
      aria-selected={x.armed}
      className={`border-b border-line ${x.armed ? "bg-mark shadow-[inset_3px_0_var(--color-buoy)]" : x.lit ? "bg-mark" : ""}`}
      onMouseEnter={() => x.onHover(true)}
      onMouseLeave={() => x.onHover(false)}
      onDragOver={(e) => e.preventDefault()}
      onDrop={(e) => {
        e.preventDefault();
        const path = e.dataTransfer.getData("text/plain");
        if (path) x.onFill(path);
      }}
    >
      <div
        className="grid cursor-pointer grid-cols-[30%_26%_minmax(0,1fr)_34px] items-baseline px-3 py-1"
        onClick={x.onArm}
        onDoubleClick={x.onOpen}
      >
        <span
          className="min-w-0 truncate pr-2"
          style={{ paddingLeft: r.depth * 18 }}
          title={[r.line?.title, r.line?.type, r.line?.values?.join(", ")].filter(Boolean).join(" · ") || undefined}
        >
          <span className="data">{f && isGroup(f) ? "" : short(name)}</span>{" "}
          {f && isLoop(f) && <b className="text-buoy">for each</b>}{" "}
          {f && isGroup(f) && <b className="text-buoy">when</b>}
          {r.line?.list && !f && <span className="text-quiet">list</span>}{" "}
          {r.line?.required && !f && <span className="text-dead">required</span>}{" "}
          {r.line?.title && <span className="text-[12px] text-quiet">{r.line.title}</span>}
        </span>
        <span className="data min-w-0 pr-2 break-all">
          {x.seen?.outcome === "set" && <span className="text-done">{cut(x.seen.value ?? "")}</span>}
          {x.seen?.outcome === "skipped" && <span className="text-wait">left out</span>}
          {x.seen?.outcome === "failed" && <span className="text-dead">{x.seen.error}</span>}
          {!f && r.line?.required && <span className="text-dead">nothing yet</span>}
        </span>
        <span className="min-w-0">
          {x.choosing && <Chooser {...x.choosing} label={label} />}
          {f ? (
            <From f={f} words={x.words} conditions={x.conditions} from={from} />
          ) : x.like ? (
            <span className="text-quiet">like {x.words[x.like.expression]?.words ?? x.like.name}</span>
          ) : (
            <span className="text-quiet">{x.armed ? "click a value on the left, or type its name" : ""}</span>
          )}
        </span>
        <span className="text-right" onClick={(e) => e.stopPropagation()}>
          {!f && x.like ? (
            <button
              type="button"
              className="btn-bare"
              aria-label={`Take ${x.like.expression} for ${label}`}
              onClick={() => x.onFill((x.like as Source).expression)}
            >
              take
            </button>
          ) : f && !isLoop(f) && !isGroup(f) ? (
            <FormMenu
              label={label}
              expression={String(f.from ?? "")}
              seen={x.seenAt}
              loops={r.loops}
              tables={x.tables}
              onChoose={(e) => x.onEdit({ from: e })}
              onWrite={x.onOpen}
            />
          ) : (
            <button type="button" className="btn-bare px-1.5" aria-label={`Settings of ${label}`} onClick={x.onOpen}>
              {x.open ? "▴" : "…"}
            </button>
          )}
        </span>
      </div>
      {x.error && (
        <p role="alert" className="px-3 pb-1 text-[12.5px] text-dead">
          {x.error}
        </p>
      )}
      {x.open && <Settings {...x} label={label} />}
    </div>
  );
}

const cut = (json: string) => (json.length > 160 ? `${json.slice(0, 159)}…` : json);
const short = (to: string) => to.replace(/^\//, "").replaceAll("~1", "/").replaceAll("~0", "~");

/** Where a line comes from, in words. */
function From({
  f,
  words,
  conditions,
  from,
}: {
  f: MapField;
  words: Record<string, Read>;
  conditions: Record<string, string>;
  from: string | undefined;
}) {
  const condition = (source: string) => conditions[source] ?? source;
  const said = from === undefined ? "" : (words[from]?.words ?? from);
  const plain = from === undefined || words[from]?.plain !== false;
  return (
    <span className="min-w-0 break-words">
      {isGroup(f) ? <span className="data">{f.when}</span> : <span className={plain ? "" : "data"}>{said}</span>}
      {f.where && <span className="text-quiet"> where {condition(f.where)}</span>}
      {f.sort && <span className="text-quiet"> in the order of {words[f.sort]?.words ?? f.sort}</span>}
      {!isGroup(f) && f.when && <b className="text-buoy"> when </b>}
      {!isGroup(f) && f.when && <span>{condition(f.when)}</span>}
      {f.missing && f.missing !== "error" && (
        <span className="text-quiet">
          {f.missing === "default"
            ? `, else ${f.default}`
            : f.missing === "skip"
              ? ", left out when missing"
              : ", empty when missing"}
        </span>
      )}
    </span>
  );
}

/** What a person may say of a line besides its value. */
function Settings(x: Props & { label: string }) {
  const { r, p } = x;
  const f = r.field;
  const missing = f?.missing ?? (f?.default === undefined ? "error" : "default");
  const condition = (setting: "when" | "where", title: string) => (
    <div className="flex items-baseline gap-2">
      <span className="head w-20 shrink-0">{title}</span>
      <div className="min-w-0 flex-1">
        <ConditionEditor
          label={`${title} of ${x.label}`}
          value={f?.[setting] ?? ""}
          onChange={(v) => x.onEdit({ [setting]: v || undefined }, setting)}
          completions={p.completions}
          onFill={p.onFill}
        />
        {f?.[setting] && f && !(isGroup(f) && setting === "when") && (
          <button type="button" className="btn-bare text-[12.5px]" onClick={() => x.onEdit({ [setting]: undefined })}>
            always
          </button>
        )}
      </div>
    </div>
  );
  return (
    <div className="space-y-1.5 bg-paper px-3 py-2 text-[12.5px]">
      {!(f && isGroup(f)) && !(f && isLoop(f) && ["csv", "hl7", "fixed"].includes(x.as)) && (
        <div className="flex items-center gap-2">
          <span className="head w-20 shrink-0">Line</span>
          <Text mono label={`Target of ${x.label}`} value={f?.to ?? r.to} onChange={(to) => x.onEdit({ to }, "to")} />
        </div>
      )}
      {!(f && isGroup(f)) && (
        <div className="flex items-center gap-2">
          <span className="head w-20 shrink-0">{f && isLoop(f) ? "Each of" : "Value"}</span>
          <div className="min-w-0 flex-1">
            <Code
              label={f && isLoop(f) ? `List of ${x.label}` : `Value of ${x.label}`}
              language="expression"
              value={String((f && isLoop(f) ? f.each : f?.from) ?? "")}
              onChange={(v) => x.onEdit(f && isLoop(f) ? { each: v } : { from: v }, "value")}
              completions={p.completions}
              invalid={!!x.error}
            />
          </div>
        </div>
      )}
      {f && isLoop(f) ? (
        <>
          <div className="flex items-center gap-2">
            <span className="head w-20 shrink-0">Item is called</span>
            <span className="w-28">
              <Text
                mono
                label={`Name of each item of ${x.label}`}
                placeholder="item"
                value={f.as ?? ""}
                onChange={(v) => x.onEdit({ as: v || undefined }, "as")}
              />
            </span>
            <span className="head">in the order of</span>
            <div className="min-w-32 flex-1">
              <Code
                label={`Order of ${x.label}`}
                language="expression"
                value={f.sort ?? ""}
                onChange={(v) => x.onEdit({ sort: v || undefined, ...(v ? {} : { descending: undefined }) }, "sort")}
                completions={p.completions}
              />
            </div>
            <label className="flex items-center gap-1">
              <input
                type="checkbox"
                checked={!!f.descending}
                disabled={!f.sort}
                onChange={(e) => x.onEdit({ descending: e.target.checked || undefined })}
              />
              the largest first
            </label>
          </div>
          {condition("where", "Only items")}
        </>
      ) : null}
      {f && condition("when", isGroup(f) ? "When" : "Only when")}
      {f && !isGroup(f) && (
        <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
          <span className="head w-20 shrink-0">When missing</span>
          <span className="w-32">
            <Select
              label={`When ${x.label} is missing`}
              value={missing}
              onChange={(m) =>
                x.onEdit({
                  missing: m === "error" ? undefined : m,
                  default: m === "default" ? (f.default ?? '""') : undefined,
                })
              }
              options={
                isLoop(f)
                  ? [
                      ["error", "an error"],
                      ["skip", "no items"],
                    ]
                  : [
                      ["error", "an error"],
                      ["skip", "left out"],
                      ["empty", "empty"],
                      ["default", "a default"],
                    ]
              }
            />
          </span>
          {missing === "default" && (
            <span className="min-w-28 flex-1">
              <Code
                label={`Default of ${x.label}`}
                language="expression"
                value={String(f.default ?? "")}
                onChange={(v) => x.onEdit({ default: v }, "default")}
                completions={p.completions}
              />
            </span>
          )}
          {!isLoop(f) && x.as !== "csv" && x.as !== "form" && (
            <label className="flex items-center gap-1" title="the text is a piece of the format itself">
              <input
                type="checkbox"
                checked={!!f.raw}
                onChange={(e) => x.onEdit({ raw: e.target.checked || undefined })}
              />
              raw
            </label>
          )}
        </div>
      )}
      <div className="flex gap-4">
        {f && (isLoop(f) || isGroup(f)) && (
          <button type="button" className="btn-bare" onClick={x.onAddBelow}>
            + line {isLoop(f) ? `of each ${f.as ?? "item"}` : "with this condition"}
          </button>
        )}
        {f && (
          <button type="button" className="btn-bare" onClick={x.onRemove}>
            remove
          </button>
        )}
      </div>
    </div>
  );
}
