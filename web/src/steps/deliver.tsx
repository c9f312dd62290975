import { useConnections } from "../api/queries";
import { useSystems } from "../systems";
import { type Override, SchemaForm } from "../systems/form";
import { ChooseOperation, type Operation } from "../systems/operations";
import { sentence, settingsOf, type Value } from "../systems/schema";
import { Select, Setting, Text } from "../ui/parts";
import { Chip, errorAt, type FormProps, Pairs, type StepView, withSetting } from "./kit";
import { StepRetry } from "./retry";
import { Columns, FoundBy } from "./table-columns";

function Form(p: FormProps) {
  const inside = typeof p.step.to === "object" && p.step.to !== null;
  const kind = !inside ? "connection" : p.step.to.topic !== undefined ? "topic" : "queue";
  const label = { connection: "Connection", queue: "Queue", topic: "Topic" }[kind];
  const target = inside ? String(p.step.to[kind] ?? "") : String(p.step.to ?? "");
  const setTarget = (v: string) => p.change(withSetting(p.step, "to", inside ? { ...p.step.to, [kind]: v } : v), "to");
  const choices = { connection: p.names.connections, queue: p.names.queues, topic: p.names.topics }[kind];
  return (
    <div className="p-3">
      <div className="flex gap-2">
        <Setting inline label="To">
          <Select
            label="Kind of target"
            value={kind}
            onChange={(v) => {
              const { id, kind: own, title, note, when, off, else: otherwise } = p.step;
              const kept = Object.fromEntries(
                Object.entries({ id, kind: own, title, note, when, off, else: otherwise }).filter(
                  ([, value]) => value !== undefined,
                ),
              );
              const to = {
                queue: { queue: p.names.queues[0] ?? "queue" },
                topic: { topic: p.names.topics[0] ?? "topic" },
                connection: p.names.connections[0] ?? "connection",
              }[v];
              p.change({ ...kept, to } as unknown as typeof p.step, "");
            }}
            options={[
              ["connection", "a connection"],
              ["queue", "a queue: one reader gets it"],
              ["topic", "a topic: every subscription gets it"],
            ]}
          />
        </Setting>
        <Setting inline label={label} error={errorAt(p, "to") ?? errorAt(p, `to/${kind}`)}>
          <Text label={label} mono value={target} onChange={setTarget} list="targets" />
          <datalist id="targets">
            {choices.map((c) => (
              <option key={c} value={c} />
            ))}
          </datalist>
        </Setting>
      </div>
      {kind === "queue" && <QueueSettings {...p} />}
      {inside ? (
        <Pairs {...p} label="Headers" setting="headers" template nameHint="x-header" />
      ) : (
        <SystemSettings {...p} target={target} />
      )}
    </div>
  );
}

/** What a queue is told about a message. */
function QueueSettings(p: FormProps) {
  const set = (name: string, v: string) => {
    const { [name]: _, ...rest } = p.step.to as Record<string, unknown>;
    p.change(withSetting(p.step, "to", v === "" ? rest : { ...rest, [name]: v }), `to/${name}`);
  };
  const box = (name: string, label: string, placeholder: string, hint: string) => (
    <Setting inline label={label} hint={hint} error={errorAt(p, `to/${name}`)}>
      <Text
        mono
        label={label}
        value={String(p.step.to[name] ?? "")}
        placeholder={placeholder}
        onChange={(v) => set(name, v)}
        invalid={!!errorAt(p, `to/${name}`)}
      />
    </Setting>
  );
  return (
    <div className="flex gap-2">
      {box("priority", "Priority", p.usual("to/priority"), "an expression from 0 to 9; the higher are taken first")}
      {box("expires", "Expires after", "never", "waiting longer makes it a dead letter")}
      <Setting inline label="Read by" error={errorAt(p, "to/readers")}>
        <Select
          label="Read by"
          value={String(p.step.to.readers ?? p.usual("to/readers"))}
          onChange={(v) => set("readers", v === p.usual("to/readers") ? "" : v)}
          options={[
            ["inside", "a flow"],
            ["outside", "others, through the API"],
          ]}
        />
      </Setting>
    </div>
  );
}

/** What is said to the system of a connection, by its schema. */
function SystemSettings(p: FormProps & { target: string }) {
  const systems = useSystems().data;
  const connection = useConnections().data?.find((c) => c.name === p.target);
  const system = systems?.find((s) => s.kind === p.names.kinds[p.target]) ?? systems?.find((s) => s.deliver);
  if (!system?.deliver) return null;
  const operations = (connection?.document as { operations?: Operation[] } | undefined)?.operations ?? [];
  return (
    <>
      {operations.length > 0 && (
        <ChooseOperation
          operations={operations}
          step={p.step as Value}
          onChoose={(settings) => p.change({ ...p.step, ...settings } as typeof p.step, "")}
        />
      )}
      <SchemaForm
        schema={system.deliver}
        value={p.step as Value}
        onChange={(v, mark) => p.change(v as typeof p.step, mark)}
        error={(s) => errorAt(p, s)}
        completions={p.completions}
        onFill={p.onFill}
        offersOf={String(p.step.to ?? "")}
        overrides={system.kind === "sql" ? overTables(p) : undefined}
      />
      <StepRetry {...p} />
    </>
  );
}

/** The settings of a database for which its tables are looked at. */
function overTables(p: FormProps): Record<string, Override> {
  const of = { connection: String(p.step.to ?? ""), table: String(p.step.table ?? "") };
  return {
    columns: (q) => <Columns {...of} {...q} completions={p.completions} onFill={p.onFill} />,
    key: (q) => <FoundBy {...of} {...q} />,
  };
}

/** A delivery to a connection as a sentence, as its system has it. */
function ToSystem({ step }: { step: Value }) {
  const systems = useSystems().data ?? [];
  const kind = useConnections().data?.find((c) => c.name === step.to)?.kind;
  const says = Object.keys(step);
  // Without the connection the settings tell which system it is for, as they do for the server.
  const system =
    systems.find((s) => s.deliver && s.kind === kind) ??
    systems.find((s) => {
      const own = settingsOf(s.deliver).map(([name]) => name);
      return s.deliver && says.every((n) => common.includes(n) || own.includes(n));
    }) ??
    systems.find((s) => s.deliver);
  const to = String(step.to);
  if (!system) return <Chip>{to}</Chip>;
  const [before, after] = sentence(system.sentence.replace("{to}", "\u0000"), system.deliver, step).split("\u0000");
  return (
    <>
      {before} <Chip>{to}</Chip> {after}
    </>
  );
}

const common = ["id", "kind", "title", "note", "when", "off", "else", "to", "retry", "headers"];

export const deliver: StepView = {
  verb: "Deliver",
  sentence: (s) =>
    typeof s.to === "object" && s.to?.topic !== undefined ? (
      <>
        to topic <Chip>{s.to.topic}</Chip>
      </>
    ) : typeof s.to === "object" && s.to ? (
      <>
        to queue <Chip>{s.to.queue}</Chip>
        {s.to.priority !== undefined && `, priority ${s.to.priority}`}
        {s.to.expires && `, expires after ${s.to.expires}`}
      </>
    ) : (
      <ToSystem step={s as Value} />
    ),
  Form,
  begin: () => ({ to: "" }), // whom it is for, only a person knows
};
