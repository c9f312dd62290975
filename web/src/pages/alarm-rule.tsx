import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, enc, type Schemas } from "../api/client";
import { useAlarmKinds, useCalendars, useConnections, useFlows, useKeys, useQueues } from "../api/queries";
import { Dialog, Select, Setting, says, Text } from "../ui/parts";
import { useRested } from "../ui/settled";
import { number, span, Time } from "../ui/time";
import { amount } from "./alarm-lines";
import { drop, keep } from "./keep";

export type Kept = Schemas["AlarmRuleKept"];
type Rule = Schemas["AlarmRule"];
type Receiver = Schemas["AlarmReceiver"];
type Kind = Schemas["AlarmKind"];

/** The names of what a kind is about. */
function useNames(of: string | undefined): string[] {
  const flows = useFlows();
  const connections = useConnections();
  const queues = useQueues();
  const keys = useKeys();
  if (of === "flow") return flows.data?.map((f) => f.name) ?? [];
  if (of === "connection") return connections.data?.map((c) => c.name) ?? [];
  if (of === "queue") return queues.data?.map((q) => q.name) ?? [];
  if (of === "key") return keys.data?.map((k) => k.name) ?? [];
  return [];
}

const plain = (text: string) =>
  text
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-|-$/g, "")
    .slice(0, 60);

/** Makes or changes a rule, and shows beside it what it would have done. */
export function EditRule({ was, onClose }: { was: Kept | null; onClose: () => void }) {
  const kinds = useAlarmKinds();
  const calendars = useCalendars();
  const [rule, setRule] = useState<Rule>(was?.rule ?? { title: "", watch: "dead-letters", limit: 0, tell: [] });
  const kind = kinds.data?.find((k) => k.name === rule.watch);
  const names = useNames(kind?.of);
  const put = (part: Partial<Rule>) => setRule({ ...rule, ...part });
  const hours: [string, string][] = [
    ["", "always"],
    ...(calendars.data ?? []).map((c): [string, string] => [c.name, c.title || c.name]),
  ];
  const path = `/api/v1/alarm-rules/${enc(was?.name ?? plain(rule.title))}`;
  return (
    <Dialog open onClose={onClose} title={was ? `The rule ${was.rule.title}` : "A rule"} wide>
      <Setting label="Title" hint="what people are told">
        <Text label="Title" value={rule.title} onChange={(title) => put({ title })} />
      </Setting>
      <div className="flex flex-wrap gap-x-4">
        <Setting label="What is watched" inline>
          <Select
            label="What is watched"
            value={rule.watch}
            onChange={(watch) => put({ watch, of: "", limit: kinds.data?.find((k) => k.name === watch)?.limit ?? 0 })}
            options={(kinds.data ?? []).map((k): [string, string] => [k.name, k.title])}
          />
        </Setting>
        {kind?.of && (
          <Setting label={`Of which ${kind.of}`} inline>
            {kind.of === "subscription" ? (
              <Text
                label="Of which subscription"
                value={rule.of ?? ""}
                placeholder="each; or topic/subscription"
                onChange={(of) => put({ of })}
              />
            ) : (
              <Select
                label={`Of which ${kind.of}`}
                value={rule.of ?? ""}
                onChange={(of) => put({ of })}
                options={[["", "each by itself"], ...names.map((n): [string, string] => [n, n])]}
              />
            )}
          </Setting>
        )}
        <Setting label={`It rings ${kind?.below ? "below" : "above"}`} hint={kind?.unit ?? ""} inline>
          <Text
            label="Limit"
            type="number"
            value={String(rule.limit ?? 0)}
            onChange={(v) => put({ limit: Number(v) || 0 })}
          />
        </Setting>
        {kind?.counts && (
          <Setting label="Counted within" inline>
            <Text
              label="Counted within"
              value={rule.within ?? ""}
              placeholder="15m"
              onChange={(within) => put({ within })}
            />
          </Setting>
        )}
        <Setting label="For at least" hint="it must be so this long" inline>
          <Text label="For at least" value={rule.for ?? ""} placeholder="0s" onChange={(v) => put({ for: v })} />
        </Setting>
        <Setting label="In the hours of" inline>
          <Select
            label="In the hours of"
            value={rule.during ?? ""}
            onChange={(during) => put({ during })}
            options={hours}
          />
        </Setting>
      </div>
      <Tried rule={rule} kind={kind} />
      <Setting label="What one does about it">
        <textarea
          aria-label="What one does about it"
          className="field h-16"
          placeholder={kind?.advice}
          value={rule.advice ?? ""}
          onChange={(e) => put({ advice: e.target.value })}
        />
      </Setting>
      <Receivers all={rule.tell ?? []} onChange={(tell) => put({ tell })} />
      {(rule.tell?.length ?? 0) > 0 && (
        <div className="flex flex-wrap gap-x-4">
          <Setting label="Nobody is told during" inline>
            <Select
              label="Nobody is told during"
              value={rule.quiet ?? ""}
              onChange={(quiet) => put({ quiet })}
              options={[["", "(no quiet times)"], ...hours.slice(1)]}
            />
          </Setting>
          <Setting label="Waits for others" hint="to tell them in one notice" inline>
            <Text
              label="Waits for others"
              value={rule.group ?? ""}
              placeholder="1m"
              onChange={(group) => put({ group })}
            />
          </Setting>
          <Setting label="Told again each" hint="until it is in hand" inline>
            <Text
              label="Told again each"
              value={rule.again ?? ""}
              placeholder="never"
              onChange={(again) => put({ again })}
            />
          </Setting>
          <label className="mt-5 flex items-center gap-1.5">
            <input type="checkbox" checked={!!rule.urgent} onChange={(e) => put({ urgent: e.target.checked })} />
            urgent: at once, in quiet times too
          </label>
          <label className="mt-5 flex items-center gap-1.5">
            <input type="checkbox" checked={!rule.noEnd} onChange={(e) => put({ noEnd: !e.target.checked })} />
            tell when it is over
          </label>
        </div>
      )}
      <div className="mt-2 flex gap-2">
        <button
          type="button"
          className="btn btn-go"
          disabled={!rule.title.trim()}
          onClick={() => void keep(path, rule, was?.revision, onClose)}
        >
          Save
        </button>
        {was && (
          <button type="button" className="btn" onClick={() => void drop(path, onClose)}>
            Remove
          </button>
        )}
      </div>
    </Dialog>
  );
}

/** When the rule would have rung. */
function Tried({ rule, kind }: { rule: Rule; kind: Kind | undefined }) {
  const [days, setDays] = useState(7);
  // Whom it tells and what it is called changes nothing of when it rings.
  const { watch, of = "", within = "", limit = 0, for: held = "", during = "" } = rule;
  const settled = useRested(JSON.stringify({ title: "tried", watch, of, within, limit, for: held, during }));
  const past = useQuery({
    queryKey: ["alarm-tried", settled, days],
    retry: false,
    placeholderData: (was: Schemas["AlarmRulePast"] | undefined) => was,
    queryFn: () =>
      call<Schemas["AlarmRulePast"]>("/api/v1/alarm-rule-tries", { body: { rule: JSON.parse(settled), days } }).then(
        (r) => r.value,
      ),
  });
  const p = past.data;
  if (past.error)
    return (
      <p role="alert" className="mb-3 text-dead">
        {says(past.error)}
      </p>
    );
  if (!p) return <p className="mb-3 text-quiet">Looking at the past…</p>;
  const from = Date.parse(p.from);
  const all = Date.parse(p.to) - from;
  const known = p.known ? Math.max(0, (Date.parse(p.known) - from) / all) : 1;
  return (
    <div className="mb-3 border-y border-line py-2" data-testid="tried">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <b>
          would {p.total === 0 && "never "}have rung {p.total === 1 && "once "}
          {p.total > 1 && `${number(p.total)} times `}in the last{" "}
        </b>
        <select
          aria-label="How far back it is tried"
          className="field !min-h-0 !w-auto !py-0"
          value={days}
          onChange={(e) => setDays(Number(e.target.value))}
        >
          <option value={1}>day</option>
          <option value={7}>week</option>
          <option value={28}>four weeks</option>
        </select>
        {p.worst !== null && kind && (
          <span className="text-quiet">
            at worst {amount(p.worst, kind.unit)} {p.worstOf && `of ${p.worstOf}`}
          </span>
        )}
      </div>
      <svg
        width="100%"
        height="16"
        preserveAspectRatio="none"
        viewBox="0 0 1000 16"
        role="img"
        aria-label="When it would have rung"
      >
        <rect width="1000" height="12" y="2" fill="var(--color-line)" opacity="0.35" />
        <rect width={known * 1000} height="12" y="2" fill="var(--color-line)" opacity="0.5" />
        {p.rings.map((r) => (
          <rect
            key={`${r.about}${r.began}`}
            x={((Date.parse(r.began) - from) / all) * 1000}
            width={Math.max(2, (((r.ended ? Date.parse(r.ended) : from + all) - Date.parse(r.began)) / all) * 1000)}
            height="12"
            y="2"
            fill="var(--color-dead)"
          />
        ))}
      </svg>
      {known > 0.02 && (
        <p className="text-[12.5px] text-quiet">
          {p.known ? (
            <>
              There are figures since <Time at={p.known} withDate />.
            </>
          ) : (
            "There are no figures of it yet; they are kept from now on."
          )}
        </p>
      )}
      {p.rings.slice(0, 3).map((r) => (
        <p key={`${r.about}${r.began}`} className="text-[12.5px]">
          <Time at={r.began} withDate />
          {r.ended ? ` for ${span(Date.parse(r.ended) - Date.parse(r.began))}` : " until now"}
          {r.about && `, ${r.about}`}
          {kind && `, ${amount(r.worst, kind.unit)} at worst`}
        </p>
      ))}
    </div>
  );
}

/** Who is told, in turn. */
function Receivers({ all, onChange }: { all: Receiver[]; onChange: (v: Receiver[]) => void }) {
  const connections = useConnections();
  const flows = useFlows();
  const targets = (connections.data ?? []).filter((c) => c.kind !== "caller" && c.kind !== "sql");
  const options: [string, string][] = [
    ...targets.map((c): [string, string] => [`c/${c.name}`, `${c.name} (${c.kind})`]),
    ...(flows.data ?? []).map((f): [string, string] => [`f/${f.name}`, `the flow ${f.title}`]),
  ];
  const set = (i: number, part: Receiver) => onChange(all.map((r, k) => (k === i ? part : r)));
  const chosen = (value: string): Receiver =>
    value.startsWith("f/") ? { flow: value.slice(2) } : { connection: value.slice(2) };
  return (
    <Setting label="Who is told" hint={all.length ? "" : "nobody: it stands on this page and on Flows alone"}>
      {all.map((r, i) => {
        const kind = connections.data?.find((c) => c.name === r.connection)?.kind;
        return (
          <div key={i} className="mb-1.5 flex flex-wrap items-center gap-2">
            <div className="w-64">
              <Select
                label={`Receiver ${i + 1}`}
                value={r.flow ? `f/${r.flow}` : `c/${r.connection ?? ""}`}
                onChange={(v) => set(i, { ...chosen(v), after: r.after ?? "" })}
                options={options}
              />
            </div>
            {kind === "mail" && (
              <div className="w-56">
                <Text
                  label={`Recipients ${i + 1}`}
                  placeholder="desk@larkfield.example"
                  value={r.recipients ?? ""}
                  onChange={(recipients) => set(i, { ...r, recipients })}
                />
              </div>
            )}
            {kind === "http" && (
              <div className="w-56">
                <Text
                  label={`Path ${i + 1}`}
                  placeholder="/"
                  value={r.path ?? ""}
                  onChange={(path) => set(i, { ...r, path })}
                />
              </div>
            )}
            <span>after</span>
            <div className="w-20">
              <Text
                label={`After ${i + 1}`}
                placeholder="0s"
                value={r.after ?? ""}
                onChange={(after) => set(i, { ...r, after })}
              />
            </div>
            <span className="text-quiet">if nobody has it in hand</span>
            <button type="button" className="btn-bare" onClick={() => onChange(all.filter((_, k) => k !== i))}>
              remove
            </button>
          </div>
        );
      })}
      <button
        type="button"
        className="btn-bare"
        disabled={options.length === 0}
        onClick={() => options[0] && onChange([...all, chosen(options[0][0])])}
      >
        tell somebody
      </button>
    </Setting>
  );
}
