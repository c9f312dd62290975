import { useState } from "react";
import { call } from "../api/client";
import { says } from "../ui/parts";

/** An example that can be changed and run. */
export function TryIt(x: {
  expression: string;
  body?: string;
  format?: string;
  tables?: Record<string, string>;
  value: string;
}) {
  const [open, setOpen] = useState(false);
  const [expression, setExpression] = useState(x.expression);
  const [body, setBody] = useState(x.body ?? "");
  const [result, setResult] = useState<{ value?: string; error?: string }>({ value: x.value });
  const run = async () => {
    try {
      setResult(
        (
          await call<{ value: string }>("/api/v1/eval", {
            body: { expression, body, format: x.format, tables: x.tables },
          })
        ).value,
      );
    } catch (e) {
      setResult({ error: says(e) });
    }
  };
  if (!open)
    return (
      <p className="data text-quiet">
        {x.expression} {x.body && `over ${x.body.replaceAll("\r", "⏎")}`}{" "}
        {Object.entries(x.tables ?? {}).map(([name, csv]) => `with ${name} ${csv.trim().replaceAll("\n", "⏎")}`)} →{" "}
        {x.value || "differs from run to run"}{" "}
        <button type="button" className="btn-bare" onClick={() => setOpen(true)}>
          try it
        </button>
      </p>
    );
  return (
    <form
      className="my-1 border border-line bg-sheet p-2"
      onSubmit={(e) => {
        e.preventDefault();
        run();
      }}
    >
      <input
        aria-label="Expression"
        className="field data"
        value={expression}
        onChange={(e) => setExpression(e.target.value)}
      />
      <textarea
        aria-label="Body"
        className="field data mt-1"
        rows={2}
        placeholder="body"
        value={body}
        onChange={(e) => setBody(x.format === "hl7" ? e.target.value.replaceAll("\n", "\r") : e.target.value)}
      />
      <div className="mt-1 flex items-center gap-3">
        <button type="submit" className="btn">
          Evaluate
        </button>
        <span className={`data break-all ${result.error ? "text-dead" : "text-done"}`} role="status">
          {result.error ?? result.value}
        </span>
      </div>
    </form>
  );
}
