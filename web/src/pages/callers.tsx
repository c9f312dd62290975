import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { enc, get, type Schemas } from "../api/client";
import { type Request, written } from "../model/requests";
import { PageHead, Trouble } from "../ui/parts";
import { number, size } from "../ui/time";

type Told = Schemas["ForCallers"];
type SignIn = Told["signIns"][number];

/** The headers by which a caller proves who it is, with what is its own left open. */
function proof(s: SignIn | undefined): Record<string, string> {
  if (!s) return {};
  if (s.kind === "api-key") return { [s.header]: "<your key>" };
  if (s.kind === "basic") return { authorization: `Basic <${s.user || "user"}:password in base64>` };
  return s.signed ?? { [s.header || "signature"]: "<your signature>" };
}

/** What whoever sends messages to a flow has to know, to be read here, printed, or taken away as a contract. */
export default function CallersPage() {
  const { name = "" } = useParams();
  const told = useQuery({
    queryKey: ["flows", name, "for-callers"],
    queryFn: () => get<Told>(`/api/v1/flows/${enc(name)}/for-callers`),
  });
  const [language, setLanguage] = useState("curl");
  if (told.error) return <Trouble error={told.error} />;
  const t = told.data;
  if (!t) return <p className="p-6 text-quiet">Loading…</p>;
  const request: Request = {
    method: t.example?.method ?? t.methods?.[0] ?? "POST",
    url: t.address + (t.example?.path ?? t.path),
    headers: {
      ...(t.example?.headers ?? { "content-type": t.types[0] ?? "application/json" }),
      ...proof(t.signIns[0]),
    },
    body: t.example?.body ?? "",
  };
  return (
    <>
      <PageHead
        title={`For callers of ${t.title || t.flow}`}
        facts={t.version ? `as version ${t.version} is live` : "it was never published; this is of its draft"}
      >
        <Link className="btn no-print" to={`/flows/${enc(name)}`}>
          Back to the sheet
        </Link>
        <a className="btn no-print" href={`/api/v1/flows/${enc(name)}/openapi`}>
          OpenAPI 3.1
        </a>
        <a className="btn no-print" href={`/api/v1/flows/${enc(name)}/asyncapi`}>
          AsyncAPI 3
        </a>
        <button type="button" className="btn no-print" onClick={() => window.print()}>
          Print
        </button>
      </PageHead>
      <section className="printed min-h-0 flex-1 overflow-auto" aria-label="Text" tabIndex={0}>
        <div className="mx-auto max-w-4xl space-y-6 px-6 py-5 leading-relaxed">
          {t.note && <p>{t.note}</p>}
          <section>
            <h2 className="mb-1 text-[17px]">Where, and what</h2>
            <dl className="grid grid-cols-[150px_1fr] gap-x-3 gap-y-1">
              {t.path ? (
                <>
                  <dt className="head">Address</dt>
                  <dd className="data">
                    {(t.methods ?? []).join(", ")} {t.address + t.path}
                  </dd>
                </>
              ) : (
                <>
                  <dt className="head">Comes in by</dt>
                  <dd>{t.channel ? `${t.kind} ${t.channel}` : t.kind}</dd>
                </>
              )}
              <dt className="head">Media types</dt>
              <dd className="data">{t.types.join(", ")}</dd>
              <dt className="head">Largest body</dt>
              <dd>{`${size(t.limit)} (${number(t.limit)} bytes)`}</dd>
              <dt className="head">A repeat</dt>
              <dd>
                {t.once ? (
                  <>
                    is told by <span className="chip">{t.once}</span>, and gets the first one's answer
                  </>
                ) : (
                  "is a message of its own"
                )}
              </dd>
              <dt className="head">Order</dt>
              <dd>
                {t.order ? (
                  <>
                    is kept for messages with the same <span className="chip">{t.order}</span>
                  </>
                ) : (
                  "is not kept"
                )}
              </dd>
            </dl>
          </section>
          {t.path && (
            <section>
              <h2 className="mb-1 text-[17px]">Who may call</h2>
              {t.signIns.length === 0 && <p>Anyone who knows the address.</p>}
              <ul className="list-disc space-y-1 pl-5">
                {t.signIns.map((s) => (
                  <li key={s.name}>
                    <b>{s.name}</b>:{" "}
                    {s.kind === "api-key" ? (
                      <>
                        a key in the header <span className="chip">{s.header}</span>
                      </>
                    ) : s.kind === "basic" ? (
                      `user ${s.user} and a password (RFC 7617)`
                    ) : (
                      <>
                        a signature over the request, {s.scheme}
                        {s.signed && (
                          <>
                            ; the example below is signed with the secret{" "}
                            <span className="data break-all whitespace-pre-wrap">{s.secret}</span>, which opens nothing
                          </>
                        )}
                      </>
                    )}
                  </li>
                ))}
              </ul>
              <p className="mt-1 text-quiet">The key itself is given by whoever runs this, never by this page.</p>
            </section>
          )}
          {t.path && (
            <section>
              <h2 className="mb-1 text-[17px]">A request to begin with</h2>
              {t.example ? (
                <p className="mb-1 text-quiet">{`The sample “${t.example.sample}”.`}</p>
              ) : (
                <p className="mb-1 text-quiet">The flow has no sample yet, so the body is empty.</p>
              )}
              <div className="no-print mb-2 flex gap-2" role="tablist" aria-label="Language">
                {Object.keys(written).map((l) => (
                  <button
                    key={l}
                    type="button"
                    role="tab"
                    aria-selected={l === language}
                    className={`btn ${l === language ? "btn-go" : ""}`}
                    onClick={() => setLanguage(l)}
                  >
                    {l}
                  </button>
                ))}
              </div>
              <pre className="data border border-line bg-sheet p-3 break-all whitespace-pre-wrap" data-testid="request">
                {written[language]?.(request)}
              </pre>
            </section>
          )}
          {t.answers.length > 0 && (
            <section>
              <h2 className="mb-1 text-[17px]">What is answered</h2>
              <table className="grid-table">
                <tbody>
                  {t.answers.map((a) => (
                    <tr key={a.status + a.meaning}>
                      <td className="w-16 font-bold">{a.status}</td>
                      <td>
                        {a.meaning}
                        {a.body && <span className="data block text-quiet">{a.body}</span>}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
              <p className="mt-1 text-quiet">
                A refusal is a problem document (RFC 9457). A caller that gets 2xx may forget the message: it is on
                disk.
              </p>
            </section>
          )}
          {t.schema && (
            <section>
              <h2 className="mb-1 text-[17px]">What a message holds</h2>
              <pre className="data border border-line bg-sheet p-3 whitespace-pre-wrap">
                {JSON.stringify(t.schema, null, 2)}
              </pre>
            </section>
          )}
        </div>
      </section>
    </>
  );
}
