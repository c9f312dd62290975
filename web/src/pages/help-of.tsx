import { type ReactNode, useMemo } from "react";
import { Link, useParams } from "react-router";
import { parse } from "yaml";
import { useReference } from "../api/queries";
import type { Step } from "../model/model";
import { patterns } from "../model/patterns";
import { Sentence, viewOf } from "../steps";
import { useSystems } from "../systems";
import { type Schema, settingsOf } from "../systems/schema";
import { PageHead } from "../ui/parts";
import { TryIt } from "./help-try";

type Told = { description?: string; enum?: string[]; default?: unknown };

/** A page about one kind of step, one kind of outside system, or one function. */
export default function HelpOfPage() {
  const { what = "", name = "" } = useParams();
  if (what === "step") return <OfStep name={name} />;
  if (what === "system") return <OfSystem name={name} />;
  if (what === "function") return <OfFunction name={name} />;
  return <Nothing />;
}

const Nothing = () => (
  <p className="p-6">
    There is no help about that.{" "}
    <Link className="underline" to="/help">
      All of the help
    </Link>
  </p>
);

function Page({ title, facts, children }: { title: string; facts: string; children: ReactNode }) {
  return (
    <>
      <PageHead title={title} facts={facts}>
        <Link className="btn" to="/help">
          All of the help
        </Link>
      </PageHead>
      <div className="min-h-0 flex-1 overflow-auto">
        <div className="mx-auto max-w-4xl space-y-5 px-6 py-5 leading-relaxed">{children}</div>
      </div>
    </>
  );
}

/** All steps of a list, those of ways and splits as well. */
const within = (steps: Step[]): Step[] =>
  steps.flatMap((s) => [
    s,
    ...within(s.steps ?? []),
    ...within(s.otherwise?.steps ?? []),
    ...within(s.else?.steps ?? []),
    ...((s.ways ?? []) as { steps: Step[] }[]).flatMap((w) => within(w.steps)),
  ]);

function OfStep({ name }: { name: string }) {
  const reference = useReference();
  const kind = reference.data?.kinds.find((k) => k.name === name);
  const example = useMemo(() => {
    try {
      return kind && (parse(kind.example) as Step);
    } catch {
      return undefined;
    }
  }, [kind]);
  if (!reference.data) return <p className="p-6 text-quiet">Loading…</p>;
  if (!kind) return <Nothing />;
  const used = patterns.filter((p) => within(p.steps).some((s) => s.kind === name));
  return (
    <Page title={viewOf(name).verb} facts={`the step ${name}`}>
      <p>
        {kind.summary} {kind.reason}
      </p>
      <section>
        <h2 className="mb-1 text-[17px]">As it is written, and as it reads</h2>
        <pre className="data bg-sheet p-2 whitespace-pre-wrap">{kind.example}</pre>
        {example && (
          <p className="mt-1 border-l-2 border-buoy pl-2">
            <Sentence step={example} />
          </p>
        )}
      </section>
      <section>
        <h2 className="mb-1 text-[17px]">Its settings</h2>
        <dl className="grid grid-cols-[130px_1fr] gap-x-3 gap-y-0.5">
          {Object.entries(kind.settings as Record<string, Told>).map(([setting, s]) => (
            <div key={setting} className="contents">
              <dt className="data">
                {setting}
                {kind.required.includes(setting) && <span title="required">*</span>}
              </dt>
              <dd>
                {s.description ?? s.enum?.join(", ")}
                {s.default !== undefined && (
                  <span className="text-quiet">{` (${JSON.stringify(s.default)} usually)`}</span>
                )}
              </dd>
            </div>
          ))}
        </dl>
        <p className="mt-2 text-quiet">
          Every step may have besides: id, title, note (a comment), when (only if), off, and else (what if it fails).
        </p>
      </section>
      {used.length > 0 && (
        <section>
          <h2 className="mb-1 text-[17px]">Worked patterns with it</h2>
          <ul className="list-disc pl-5">
            {used.map((p) => (
              <li key={p.name}>
                <b>{p.title}.</b> {p.why}
              </li>
            ))}
          </ul>
          <p className="text-quiet">Start a flow with one of them on Flows.</p>
        </section>
      )}
      <Others what="step" names={reference.data.kinds.map((k) => [k.name, viewOf(k.name).verb])} here={name} />
    </Page>
  );
}

/** The other pages of the same sort. */
function Others({ what, names, here }: { what: string; names: [string, string][]; here: string }) {
  return (
    <nav aria-label="Others" className="border-t border-line pt-3">
      {names
        .filter(([n]) => n !== here)
        .map(([n, title]) => (
          <Link key={n} className="mr-3 inline-block underline" to={`/help/${what}/${n}`}>
            {title}
          </Link>
        ))}
    </nav>
  );
}

function OfSystem({ name }: { name: string }) {
  const systems = useSystems();
  const s = systems.data?.find((x) => x.kind === name);
  if (!systems.data) return <p className="p-6 text-quiet">Loading…</p>;
  if (!s) return <Nothing />;
  const parts: [string, Schema | null | undefined][] = [
    ["The connection", s.connection],
    ["What comes from it", s.intake],
    ["What is delivered to it", s.deliver],
    ["What it is asked", s.ask],
  ];
  return (
    <Page title={s.title} facts={`connections of kind ${s.kind}`}>
      <p>{s.summary}</p>
      {parts.map(
        ([title, schema]) =>
          schema && (
            <section key={title}>
              <h2 className="mb-1 text-[17px]">{title}</h2>
              <dl className="grid grid-cols-[170px_1fr] gap-x-3 gap-y-0.5">
                {settingsOf(schema).map(([setting, p]) => (
                  <div key={setting} className="contents">
                    <dt className="data">
                      {setting}
                      {schema.required?.includes(setting) && <span title="required">*</span>}
                    </dt>
                    <dd>
                      {p.title}
                      {p.description && `: ${p.description}`}
                      {p.default !== undefined && (
                        <span className="text-quiet">{` (${JSON.stringify(p.default)} usually)`}</span>
                      )}
                    </dd>
                  </div>
                ))}
              </dl>
            </section>
          ),
      )}
      <p>
        <Link className="underline" to={`/connections?open=%2B${s.kind}`}>
          Connect one
        </Link>
      </p>
      <Others what="system" names={systems.data.map((x) => [x.kind, x.title])} here={name} />
    </Page>
  );
}

function OfFunction({ name }: { name: string }) {
  const reference = useReference();
  if (!reference.data) return <p className="p-6 text-quiet">Loading…</p>;
  const f = reference.data.functions.find((x) => x.name === name);
  if (!f) return <Nothing />;
  return (
    <Page title={f.name} facts="a function of expressions">
      <p className="data">{f.signature}</p>
      <p>{f.text}</p>
      {f.examples.map((x) => (
        <TryIt key={x.expression + x.body} {...x} />
      ))}
      <Others what="function" names={reference.data.functions.map((x) => [x.name, x.name])} here={name} />
    </Page>
  );
}
