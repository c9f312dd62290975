import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, enc, get, type Sample } from "../api/client";
import { type FlowDocument, rowsOf } from "../model/model";

/** Makes up a message of a schema among the files of the flow, or of a type of HL7. */
export function MakeUp(p: {
  flow: string;
  doc: FlowDocument;
  onMade: (s: Sample) => void;
  onError: (e: unknown) => void;
}) {
  const files = useQuery({
    queryKey: ["files", p.flow],
    queryFn: () => get<Record<string, string>>(`/api/v1/flows/${enc(p.flow)}/files`),
  });
  const [type, setType] = useState("ADT^A01");
  const schemas = Object.keys(files.data ?? {}).filter((f) => /\.(json|xsd|wsdl|ya?ml)$/.test(f));
  // Schemas that stand in steps themselves.
  const own = rowsOf(p.doc).flatMap((r) =>
    r.kind === "step" && r.step.kind === "validate" && r.step.schema && !r.step.schema.$ref ? [r.step] : [],
  );
  const make = async (body: Record<string, unknown>) => {
    p.onError(undefined);
    try {
      p.onMade((await call<Sample>(`/api/v1/flows/${enc(p.flow)}/make-up`, { body })).value);
    } catch (e) {
      p.onError(e);
    }
  };
  return (
    <details className="mb-2">
      <summary className="head cursor-pointer">Make one up</summary>
      <div className="mt-1 flex flex-wrap items-center gap-2">
        {schemas.map((file) => (
          <button key={file} type="button" className="btn" onClick={() => make({ file })}>
            {`of ${file.replace(/^schemas\//, "")}`}
          </button>
        ))}
        {own.map((step) => (
          <button key={step.id} type="button" className="btn" onClick={() => make({ schema: step.schema })}>
            {`of the schema in ${step.id}`}
          </button>
        ))}
        {schemas.length + own.length === 0 && <span className="text-quiet">The flow has no schema.</span>}
        <label className="ml-auto flex items-center gap-1.5">
          HL7
          <input
            aria-label="Type of HL7 message"
            className="field data !w-28"
            value={type}
            onChange={(e) => setType(e.target.value)}
          />
        </label>
        <button type="button" className="btn" disabled={type.trim() === ""} onClick={() => make({ hl7: type.trim() })}>
          of this type
        </button>
      </div>
    </details>
  );
}
