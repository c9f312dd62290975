import { Dialog as RadixDialog } from "radix-ui";
import type { ReactNode } from "react";
import { type Finding, ProblemError } from "../api/client";

/** The line below the band: what page this is, what it says, what it offers. */
export function PageHead({ title, facts, children }: { title: ReactNode; facts?: ReactNode; children?: ReactNode }) {
  return (
    <header className="flex min-h-[54px] shrink-0 flex-wrap items-center gap-x-3 gap-y-1 border-b border-line px-4 py-2">
      <h1 className="max-w-[min(38%,34rem)] truncate" title={typeof title === "string" ? title : undefined}>
        {title}
      </h1>
      <div className="min-w-40 flex-1 text-quiet">{facts}</div>
      <div className="flex flex-wrap items-center justify-end gap-2">{children}</div>
    </header>
  );
}

/** An empty page says what to do first. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="mx-auto mt-16 max-w-xl px-6 text-center">
      <h2 className="mb-2 text-[17px]">{title}</h2>
      <div className="text-quiet">{children}</div>
    </div>
  );
}

export function Dialog(p: {
  open: boolean;
  onClose: () => void;
  title: string;
  children: ReactNode;
  wide?: boolean;
  /** Where keys go when it is closed; else where they went before. */
  onGone?: () => void;
}) {
  return (
    <RadixDialog.Root open={p.open} onOpenChange={(open) => !open && p.onClose()}>
      <RadixDialog.Portal>
        <RadixDialog.Overlay className="overlay" />
        <RadixDialog.Content
          className="dialog"
          style={p.wide ? { width: "min(980px, 94vw)" } : undefined}
          aria-describedby={undefined}
          onCloseAutoFocus={(e) => {
            if (!p.onGone) return;
            e.preventDefault();
            p.onGone();
          }}
        >
          <RadixDialog.Title className="mb-3 text-[16px] font-bold">{p.title}</RadixDialog.Title>
          {p.children}
        </RadixDialog.Content>
      </RadixDialog.Portal>
    </RadixDialog.Root>
  );
}

/** A setting with its name, its control and what is wrong with it. */
export function Setting(p: { label: string; hint?: string; error?: string; children: ReactNode; inline?: boolean }) {
  return (
    <div className={p.inline ? "mb-2.5 min-w-24 flex-1" : "mb-2.5"}>
      <span className="head mb-0.5 block">{p.label}</span>
      {p.children}
      {p.error ? (
        <p role="alert" className="mt-0.5 text-[12.5px] text-dead">
          {p.error}
        </p>
      ) : (
        p.hint && <p className="mt-0.5 text-[12.5px] text-quiet">{p.hint}</p>
      )}
    </div>
  );
}

export function Text(p: {
  label: string;
  value: string;
  onChange: (v: string) => void;
  placeholder?: string;
  invalid?: boolean;
  mono?: boolean;
  type?: string;
  list?: string;
  /** What a browser may fill in (the attribute autocomplete); nothing otherwise. */
  complete?: string;
  focus?: boolean;
  disabled?: boolean;
}) {
  return (
    <input
      aria-label={p.label}
      disabled={p.disabled}
      className={`field ${p.mono ? "data" : ""}`}
      value={p.value}
      type={p.type ?? "text"}
      placeholder={p.placeholder}
      aria-invalid={p.invalid || undefined}
      list={p.list}
      autoComplete={p.complete ?? "off"}
      // biome-ignore lint/a11y/noAutofocus: where a page is this one form
      autoFocus={p.focus}
      spellCheck={false}
      onChange={(e) => p.onChange(e.target.value)}
    />
  );
}

export function Select(p: {
  label: string;
  value: string;
  onChange: (v: string) => void;
  options: (string | [string, string])[];
}) {
  return (
    <select aria-label={p.label} className="field" value={p.value} onChange={(e) => p.onChange(e.target.value)}>
      {p.options.map((o) => {
        const [value, text] = typeof o === "string" ? [o, o] : o;
        return (
          <option key={value} value={value}>
            {text}
          </option>
        );
      })}
    </select>
  );
}

/** What went wrong, where, and what to do next. */
export function Trouble({ error }: { error: unknown }) {
  const p = error instanceof ProblemError ? error : null;
  return (
    <div role="alert" className="border-l-4 border-dead bg-loss px-3 py-2">
      <b>{p ? p.title : "Something went wrong"}</b>
      {p?.findings.length ? <FindingList findings={p.findings} /> : <p>{p ? p.detail : String(error)}</p>}
    </div>
  );
}

/** An edit that does away with a finding. */
export type Mend = NonNullable<Finding["mends"]>[number];

export function FindingList({ findings, onMend }: { findings: Finding[]; onMend?: ((m: Mend) => void) | undefined }) {
  return (
    <ul className="mt-1 space-y-1">
      {findings.map((f) => (
        <li key={f.pointer + f.message}>
          <span className={f.level === "error" ? "text-dead" : "text-wait"}>
            {f.level}
            {f.step && `, step ${f.step}`}, line {f.line}
          </span>
          : {f.message}
          {f.repair && <span className="text-quiet"> ({f.repair})</span>}
          {onMend &&
            f.mends?.map((m) => (
              <button key={m.text} type="button" className="btn-bare ml-2" onClick={() => onMend(m)}>
                {m.text}
              </button>
            ))}
        </li>
      ))}
    </ul>
  );
}

/** The message of an error, for a short notice. */
export const says = (e: unknown) => (e instanceof Error ? e.message : String(e));
