import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { earlierOf } from "../model/earlier";
import { entriesOf, entryOf } from "../model/model";
import { cameFrom } from "../model/provenance";
import { viewOf } from "../steps";
import type { Completion } from "../ui/code";
import { Divider } from "../ui/divider";
import { Document } from "../ui/document";
import { useKept, useWindowHeight } from "../ui/kept";
import { FindingList } from "../ui/parts";
import { paths } from "../ui/tree";
import { Before } from "./before";
import { IntakeForm } from "./intake-form";
import { lackingOf } from "./lacking";
import { SendSample, unsent } from "./send-sample";
import { belongs } from "./sheet";
import { Answer, LookedUp, Sent } from "./shown";
import { type DeskProps, StepForm } from "./step-form";
import { WayForm } from "./way-form";

/** For the focused cell: the message before, the step's settings, the message after. */
export function Desk(p: DeskProps) {
  const { row } = p;
  const fill = useRef<((path: string) => void) | null>(null);
  const [hoverField, setHoverField] = useState<string | null>(null);
  const [hoverBefore, setHoverBefore] = useState<string | null>(null);
  const [hoverAfter, setHoverAfter] = useState<string | null>(null);
  const [nth, setNth] = useState(0);
  const [picked, setPicked] = useState<string | null>(null);
  const [mapped, setMapped] = useState<string[]>([]);
  const [written, setWritten] = useState(false);
  const [lit, setLit] = useState<string[]>([]);
  const maps = row.kind === "step" && row.step.kind === "map";
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is picked belongs to the step that is looked at
  useEffect(() => {
    setPicked(null);
    setMapped([]);
  }, [row.pointer]);
  const key = row.kind === "way" ? row.routeKey : row.key;
  const several = entriesOf(p.rehearsal, key);
  const shownNth = Math.min(nth, several.length - 1);
  const entry = entryOf(p.rehearsal, key, nth);
  const accepted = p.rehearsal?.intake.outcome === "accepted";
  const received = accepted ? p.rehearsal?.intake.body : p.sample && { format: "text", text: p.sample.body };
  const before = row.kind === "intake" ? received : entry?.before;
  const after = row.kind === "intake" ? (accepted ? received : undefined) : entry?.after;
  const earlier = useMemo(() => earlierOf(p.rehearsal, entry), [p.rehearsal, entry]);
  const fields = entry?.fields ?? [];
  const used = entry?.reads ?? [];
  const changed =
    entry && entry.before?.text !== entry.after?.text ? fields.filter((f) => f.outcome === "set").map((f) => f.to) : [];
  const litField =
    hoverField ??
    fields.find((f) => hoverAfter?.startsWith(f.at ?? f.to))?.to ??
    fields.find((f) => hoverBefore !== null && hoverBefore !== "" && f.reads.includes(hoverBefore))?.to ??
    null;
  const litBefore = hoverAfter
    ? cameFrom(entry, hoverAfter)
    : fields.flatMap((f) => (f.to === litField ? f.reads : []));
  const completions = useMemo<Completion[]>(() => {
    const tree = before?.tree ?? before?.text;
    const body = tree === undefined ? [] : paths(tree).map((label) => ({ label, detail: "here" }));
    const seen = (entry?.names ?? []).flatMap((n) => paths(n.json, n.name).map((label) => ({ label, detail: "here" })));
    const past = earlier.flatMap((e) => {
      const text = e.body.tree ?? e.body.text;
      return text === undefined ? [] : paths(text, e.root).map((label) => ({ label, detail: e.title }));
    });
    const names = p.reference?.names.map((n) => ({ label: n.name, detail: n.text })) ?? [];
    const functions = p.reference?.functions.map((f) => ({ label: `${f.name}(`, detail: f.signature })) ?? [];
    const params = Object.keys(p.sample?.params ?? {}).map((n) => ({ label: `params.${n}` }));
    const headers = Object.keys(p.sample?.headers ?? {}).map((n) => ({ label: `headers["${n}"]` }));
    return [...body, ...seen, ...past, ...names.filter((n) => n.label !== "body"), ...params, ...headers, ...functions];
  }, [before?.text, before?.tree, entry?.names, earlier, p.reference, p.sample]);
  const onFill = useCallback((f: ((path: string) => void) | null) => {
    fill.current = f;
  }, []);
  const most = Math.round(useWindowHeight() * 0.7);
  const [asked, setHeight] = useKept("desk-high", Math.min(380, Math.round(window.innerHeight * 0.44)));
  const height = Math.min(asked, most);
  const hidden = height < 60;
  const findings = p.findings.filter((f) => belongs(row, f));
  const lacking = findings.flatMap((f) => lackingOf(f, p.doc) ?? []);
  const sends = row.kind === "step" && row.step.kind === "deliver";
  const title =
    row.kind === "intake" ? "Intake" : row.kind === "way" ? `Way ${row.way.name}` : viewOf(row.step.kind).verb;
  return (
    <section
      aria-label="Desk"
      inert={p.behind}
      className={`grid shrink-0 grid-rows-[0_minmax(0,1fr)] border-t-2 border-deep ${maps ? "grid-cols-[3fr_5fr_0]" : "grid-cols-[3fr_4fr_3fr]"} ${hidden ? "invisible" : ""}`}
      style={{ height: hidden ? 2 : height }}
    >
      <div className="visible relative col-span-3 h-0">
        <Divider
          label="Height of the desk"
          across="rows"
          backwards
          value={hidden ? 0 : height}
          min={0}
          max={most}
          onChange={(v) => setHeight(v < 60 && v < asked ? 0 : Math.max(v, 100))}
          onToggle={() => setHeight(hidden ? 380 : 0)}
          className="absolute -top-1.5 h-2.5 w-full"
        />
        <button
          type="button"
          className="absolute -top-5 right-2 z-30 rounded-t-[3px] border border-b-0 border-line bg-paper px-2 text-[11.5px] leading-[18px] text-quiet hover:text-ink"
          aria-expanded={!hidden}
          onClick={() => setHeight(hidden ? 380 : 0)}
        >
          {hidden ? "show the desk" : "hide the desk"}
        </button>
      </div>
      <div className="flex min-h-0 min-w-0 flex-col border-r border-line bg-sheet">
        <h2 className="pane-head bg-paper">
          {row.kind === "intake" ? "As it comes in" : `Before step ${row.n}`}{" "}
          <span className="min-w-0 flex-1 truncate font-normal text-quiet">{p.sample?.name ?? "no sample"}</span>
          {row.kind === "intake" && p.sample && p.flow.live > 0 && !unsent.includes(p.doc.intake.kind) && (
            <SendSample flow={p.doc.name} sample={p.sample.name} />
          )}
          {several.length > 1 && (
            <span className="flex shrink-0 items-baseline gap-1.5" data-testid="part">
              <button
                type="button"
                className="btn-bare"
                aria-label="The part before"
                disabled={shownNth === 0}
                onClick={() => setNth(shownNth - 1)}
              >
                ‹
              </button>
              {nthOf(entry?.path ?? "", shownNth, several.length)}
              <button
                type="button"
                className="btn-bare"
                aria-label="The next part"
                disabled={shownNth === several.length - 1}
                onClick={() => setNth(shownNth + 1)}
              >
                ›
              </button>
            </span>
          )}
        </h2>
        <div className="min-h-0 flex-1 overflow-auto" data-testid="before">
          {p.sample ? (
            before || row.kind === "intake" ? (
              <Before
                key={row.pointer}
                body={before}
                entry={entry}
                earlier={earlier}
                sample={p.sample}
                used={used}
                lit={maps ? [...litBefore, ...lit] : litBefore}
                picked={picked}
                mapped={maps ? mapped : undefined}
                onPick={row.kind === "intake" ? undefined : (path) => fill.current?.(path)}
                onHover={setHoverBefore}
              />
            ) : (
              <p className="p-3 text-quiet">
                {p.rehearsal ? `This sample does not get here. ${p.rehearsal.reason ?? ""}` : "…"}
              </p>
            )
          ) : (
            <p className="p-3 text-quiet">
              Add a sample with “+ sample”: paste a real message, and every step shows what it does to it.
            </p>
          )}
        </div>
      </div>
      <div className="flex min-h-0 min-w-0 flex-col border-r border-line" data-testid="settings">
        <h2 className="pane-head">
          {title}
          <span className="min-w-0 flex-1 truncate font-normal text-quiet">
            {maps ? (picked ? `${picked}: now click its line` : "") : ""}
          </span>
          {maps && (
            <button type="button" className="btn-bare" aria-pressed={written} onClick={() => setWritten(!written)}>
              {written ? "line by line" : "as it is written"}
            </button>
          )}
          {row.kind === "step" && row.step.kind === "subflow" && (
            <button type="button" className="btn-bare" onClick={p.onInline}>
              its steps here
            </button>
          )}
          <button type="button" className="btn-bare" onClick={p.onAdd}>
            add below
          </button>
          {row.kind !== "intake" && !(row.kind === "way" && row.otherwise && !row.fixed) && (
            <button type="button" className="btn-bare" onClick={p.onRemove}>
              remove
            </button>
          )}
        </h2>
        {findings.length > 0 && (
          <div
            className="max-h-[40%] shrink-0 overflow-auto border-b border-line px-3 pb-1.5"
            data-testid="row-findings"
          >
            <FindingList findings={findings} onMend={p.onMend} />
            {lacking.map((l) => (
              <button key={l.what + l.name} type="button" className="btn-bare mr-3" onClick={() => p.onMake(l)}>
                {`make the ${l.what} ${l.name} here`}
              </button>
            ))}
          </div>
        )}
        {p.unreached.map((u) => (
          <Unreached key={u.text} {...u} />
        ))}
        {maps && entry?.error && (
          <p role="alert" className="border-l-4 border-dead bg-loss px-3 py-1">
            {entry.error}
          </p>
        )}
        <div
          className={`min-h-0 flex-1 ${maps && !written ? "flex flex-col overflow-hidden" : "overflow-auto"}`}
          data-form
        >
          {row.kind === "intake" && (
            <IntakeForm
              doc={p.doc}
              findings={p.findings}
              flow={p.flow}
              connections={p.connections}
              sample={p.sample}
              completions={completions}
              onChange={p.onChange}
            />
          )}
          {row.kind === "way" && <WayForm {...p} row={row} completions={completions} onFill={onFill} entry={entry} />}
          {maps && written && after && (
            <div data-testid="after">
              <Document body={after} changed={changed} onHover={setHoverAfter} />
            </div>
          )}
          {row.kind === "step" && !(maps && written) && (
            <StepForm
              {...p}
              row={row}
              completions={completions}
              onFill={onFill}
              entry={entry}
              litField={litField}
              onHoverField={setHoverField}
              picked={picked}
              onPicked={setPicked}
              onMapped={setMapped}
              onLit={setLit}
              looked={hoverBefore || null}
              earlier={earlier}
            />
          )}
        </div>
      </div>
      <div className={`min-h-0 min-w-0 flex-col bg-sheet ${maps ? "hidden" : "flex"}`}>
        <h2 className="pane-head bg-paper">
          {row.kind === "intake" ? "What the caller gets" : sends ? `Sent by step ${row.n}` : `After step ${row.n}`}{" "}
          <span className="font-normal text-quiet">
            {row.kind !== "intake" && !sends && after?.format ? `as ${after.format.toUpperCase()}` : ""}
          </span>
        </h2>
        <div className="min-h-0 flex-1 overflow-auto" data-testid={maps ? undefined : "after"}>
          {entry?.error && (
            <p role="alert" className="m-3 border-l-4 border-dead bg-loss px-3 py-2">
              {entry.error}
            </p>
          )}
          {row.kind === "intake" ? (
            <Answer rehearsal={p.rehearsal} />
          ) : sends ? (
            <Sent rehearsal={p.rehearsal} path={entry?.path ?? row.key} />
          ) : (
            !entry?.error &&
            after && (
              <>
                <LookedUp looked={entry?.looked} />
                <Document body={after} changed={changed} lit={litField ? [litField] : []} onHover={setHoverAfter} />
              </>
            )
          )}
        </div>
      </div>
    </section>
  );
}

/** Says what no sample does at a row, and makes one that does. */
function Unreached({ text, onMake }: { text: string; onMake: () => void }) {
  return (
    <p className="shrink-0 border-b border-line px-3 pb-1.5 text-quiet" data-testid="unreached">
      {text}
      <button type="button" className="btn-bare ml-2" onClick={onMake}>
        make one that does
      </button>
    </p>
  );
}

/** Which of several parts, or of several groups, is looked at. */
function nthOf(path: string, nth: number, all: number): string {
  const part = /\[(\d+)\][./][^[]*$/.exec(path)?.[1];
  return part === undefined ? `${nth + 1} of ${all}` : `part ${Number(part) + 1}`;
}
