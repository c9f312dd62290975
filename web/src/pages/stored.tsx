import type { ReactNode } from "react";
import { useNavigate } from "react-router";
import { Time } from "../ui/time";

/** One message of a queue, topic or group: its facts, a way to its transaction, and inside the message itself. */
export function StoredRow(p: {
  n: number;
  reference: string;
  at: string;
  facts?: ReactNode;
  choose?: ReactNode;
  /** The transaction behind it; null where there is none. */
  link: { text: string; transaction: string | null };
  children: ReactNode;
}) {
  const go = useNavigate();
  return (
    <div className="flex items-start border-b border-line">
      {p.choose}
      <details className="min-w-0 flex-1">
        <summary className="flex cursor-pointer gap-4 px-3 py-1.5">
          <span className="w-14 text-quiet">{p.n}</span>
          <b className="data w-32">{p.reference}</b>
          <Time at={p.at} />
          {p.facts}
        </summary>
        {p.children}
      </details>
      {p.link.transaction ? (
        <button
          type="button"
          className="btn-bare shrink-0 px-4 py-1.5"
          onClick={() => go(`/transactions/${p.link.transaction}`)}
        >
          {p.link.text}
        </button>
      ) : (
        <span className="shrink-0 px-4 py-1.5 text-quiet">{p.link.text}</span>
      )}
    </div>
  );
}
