/** State marks: told apart by shape first, by colour second. */
export function Mark({ state, size = 12 }: { state: string; size?: number }) {
  const common = {
    width: size,
    height: size,
    viewBox: "0 0 12 12",
    "aria-hidden": true,
    className: "shrink-0",
  } as const;
  switch (state) {
    case "delivered":
      return (
        <svg {...common} aria-hidden="true">
          <rect x="1" y="1" width="10" height="10" fill="var(--color-done)" />
        </svg>
      );
    case "under way":
      return (
        <svg {...common} aria-hidden="true">
          <path d="M2 0.5v11M2 1l9 4.5L2 10z" fill="none" stroke="var(--color-deep)" strokeWidth="1.4" />
          <path d="M2 1l4.5 2.25v4.5L2 10z" fill="var(--color-deep)" />
        </svg>
      );
    case "waiting":
      return (
        <svg {...common} aria-hidden="true">
          <path d="M6 1.2A4.8 4.8 0 1 0 10.8 6" fill="none" stroke="var(--color-wait)" strokeWidth="2" />
        </svg>
      );
    case "turned away":
      return (
        <svg {...common} aria-hidden="true">
          <path d="M1.5 1.5h9v9h-9zM1.5 10.5l9-9" fill="none" stroke="var(--color-quiet)" strokeWidth="1.4" />
        </svg>
      );
    case "dead letter":
      return (
        <svg {...common} aria-hidden="true">
          <path d="M6 0l6 6-6 6-6-6z" fill="var(--color-dead)" />
          <path d="M4 4l4 4M8 4l-4 4" stroke="var(--color-sheet)" strokeWidth="1.3" />
        </svg>
      );
  }
  return <span className="inline-block w-3 text-center text-quiet">·</span>;
}

/** A state in a word, with its mark. */
export function StateWord({ state }: { state: string }) {
  return (
    <span className="inline-flex items-center gap-1.5 whitespace-nowrap">
      <Mark state={state} />
      {state}
    </span>
  );
}
