import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { stringify } from "yaml";
import { call, type Draft, enc } from "../api/client";
import { useVersions } from "../api/queries";
import { type FlowDocument, rowsOf, type Step } from "../model/model";
import { IntakeSentence, intakeWhere } from "../sheet/intake";
import { RowText } from "../sheet/sheet";
import { PageHead, Trouble } from "../ui/parts";
import { Time } from "../ui/time";

// What the sentence of a step says already, or what stands in rows of its own.
const told = new Set(["id", "kind", "title", "note", "steps", "ways", "otherwise", "off"]);

/** A flow on paper: every step with its comment and its settings, for those who never open the application. */
export default function PaperPage() {
  const { name = "" } = useParams();
  const draft = useQuery({
    queryKey: ["flows", name, "paper"],
    queryFn: async () => (await call<Draft>(`/api/v1/flows/${enc(name)}`)).value,
  });
  const versions = useVersions(name);
  if (draft.error) return <Trouble error={draft.error} />;
  if (!draft.data) return <p className="p-6 text-quiet">Loading…</p>;
  const doc = draft.data.document as unknown as FlowDocument;
  const live = versions.data?.find((v) => v.version === draft.data.live);
  return (
    <>
      <PageHead
        title={doc.title || name}
        facts={
          live ? (
            <>
              {`version ${live.version} since `}
              <Time at={live.publishedAt} withDate />
              {draft.data.edits > 0 && "; this is the draft, which has changed since"}
            </>
          ) : (
            "a draft, never published"
          )
        }
      >
        <Link className="btn no-print" to={`/flows/${enc(name)}`}>
          Back to the sheet
        </Link>
        <button type="button" className="btn no-print" onClick={() => window.print()}>
          Print
        </button>
      </PageHead>
      <section className="printed min-h-0 flex-1 overflow-auto" aria-label="Text" tabIndex={0}>
        <div className="mx-auto max-w-4xl px-6 py-5 leading-relaxed">
          {doc.note && <p className="mb-4">{doc.note}</p>}
          <ol>
            {rowsOf(doc).map((row) => (
              <li
                key={row.kind + row.key}
                className="flex gap-3 border-b border-line py-1.5 break-inside-avoid"
                style={{ paddingLeft: row.depth * 22 }}
              >
                <span className="w-7 shrink-0 text-right text-quiet">{row.n}</span>
                <div className="min-w-0 flex-1">
                  <p>
                    <RowText row={row} intake={<IntakeSentence intake={doc.intake} />} />
                    {row.kind === "intake" && <span className="text-quiet"> {intakeWhere(doc.intake)}</span>}
                    {row.kind === "step" && row.step.off && <span className="text-quiet"> (switched off)</span>}
                  </p>
                  {row.kind === "step" && row.step.note && (
                    <p className="border-l-2 border-buoy pl-2">{row.step.note}</p>
                  )}
                  {row.kind === "way" && row.way.note && <p className="border-l-2 border-buoy pl-2">{row.way.note}</p>}
                  {row.kind === "step" && <Settings step={row.step} />}
                </div>
              </li>
            ))}
          </ol>
        </div>
      </section>
    </>
  );
}

/** The settings of a step, each on a line. */
function Settings({ step }: { step: Step }) {
  const all = Object.entries(step).filter(([k]) => !told.has(k));
  if (!all.length) return null;
  return (
    <dl className="mt-0.5 grid grid-cols-[110px_1fr] gap-x-3 text-[12.5px]">
      {all.map(([k, v]) => (
        <div key={k} className="contents">
          <dt className="text-quiet">{k}</dt>
          <dd className="data break-all whitespace-pre-wrap">
            {typeof v === "string"
              ? v
              : stringify(k === "else" && v?.steps ? { ...v, steps: "below" } : v, { lineWidth: 0 }).trimEnd()}
          </dd>
        </div>
      ))}
    </dl>
  );
}
