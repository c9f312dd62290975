/** What a document shows besides itself, and what may be done with its values. */
export type Looks = {
  /** Pointers whose values are used: underlined. */
  used?: string[];
  /** Pointers whose values are new: with a bar in the margin. */
  changed?: string[];
  /** Pointers that are looked at now. */
  lit?: string[];
  /** Takes the expression that reads a value, or a whole list, object or segment. */
  onPick?: (expression: string) => void;
  /** What is picked now. */
  picked?: string | null;
  /** Expressions that a target uses. */
  mapped?: string[];
  /** Names of fields beside their values, where the format has some. */
  named?: boolean;
  onHover?: (pointer: string | null) => void;
  /** The name that expressions know the document by. */
  root?: string;
};

/** Whether a pointer is one of these, or stands under one. */
export const under = (pointer: string, of: string[] | undefined) =>
  !!of?.some((p) => p === pointer || (p !== "" && pointer.startsWith(`${p}/`)));

/** A value that something uses. */
export const underlined = "font-bold underline decoration-2 decoration-deep underline-offset-2";

/** A value without the quotes that JSON has around a text. */
function plainValue(text: string): string {
  try {
    const v = JSON.parse(text);
    return typeof v === "string" ? v : text;
  } catch {
    return text;
  }
}

/** A value that is pointed at: by mouse, by Enter, or carried to where it belongs. */
export function Pick(p: {
  path: string;
  className?: string;
  title?: string;
  picked?: string | null;
  onPick: (path: string) => void;
  onMouseEnter?: () => void;
  children: React.ReactNode;
}) {
  return (
    <button
      type="button"
      tabIndex={-1}
      data-pick={p.path}
      draggable
      className={`text-left hover:bg-mark ${p.picked === p.path ? "bg-change outline-2 outline-buoy" : ""} ${p.className ?? ""}`}
      title={p.title}
      aria-pressed={p.picked === p.path}
      // The editor whose cursor it goes to keeps the focus.
      onMouseDown={(e) => {
        if (document.activeElement?.closest(".cm-editor")) e.preventDefault();
      }}
      onDragStart={(e) => {
        e.dataTransfer.setData("text/plain", p.path);
        e.dataTransfer.effectAllowed = "copy";
      }}
      onClick={() => p.onPick(p.path)}
      onMouseEnter={p.onMouseEnter}
      // Text in a button cannot be selected, so the usual keys copy its value.
      onKeyDown={(e) => {
        if (!(e.ctrlKey || e.metaKey) || e.key.toLowerCase() !== "c") return;
        e.preventDefault();
        void navigator.clipboard?.writeText(plainValue(e.currentTarget.textContent ?? ""));
      }}
    >
      {p.children}
    </button>
  );
}
