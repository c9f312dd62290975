type Props = {
  label: string;
  /** Whether it stands between left and right, or above and below. */
  across: "columns" | "rows";
  value: number;
  min: number;
  max: number;
  /** Grows when it is moved to the left, or up. */
  backwards?: boolean;
  onChange: (v: number) => void;
  onToggle?: () => void;
  className?: string;
};

/** The line between two parts of a page: dragged, moved by arrows, and with a double click as it was at first. */
export function Divider(p: Props) {
  const put = (v: number) => p.onChange(Math.round(Math.max(p.min, Math.min(p.max, v))));
  const sign = p.backwards ? -1 : 1;
  const drag = (e: React.PointerEvent) => {
    e.preventDefault();
    const [from, was] = [p.across === "columns" ? e.clientX : e.clientY, p.value];
    const onMove = (m: PointerEvent) => put(was + sign * ((p.across === "columns" ? m.clientX : m.clientY) - from));
    window.addEventListener("pointermove", onMove);
    window.addEventListener("pointerup", () => window.removeEventListener("pointermove", onMove), { once: true });
  };
  const onKey = (e: React.KeyboardEvent) => {
    const [less, more] = p.across === "columns" ? ["ArrowLeft", "ArrowRight"] : ["ArrowUp", "ArrowDown"];
    if (e.key === less || e.key === more) put(p.value + sign * (e.key === more ? 24 : -24));
    else if (e.key === "Enter" && p.onToggle) p.onToggle();
    else return;
    e.preventDefault();
    e.stopPropagation();
  };
  return (
    <div
      role="separator"
      tabIndex={0}
      aria-label={p.label}
      aria-orientation={p.across === "columns" ? "vertical" : "horizontal"}
      aria-valuenow={p.value}
      aria-valuemin={p.min}
      aria-valuemax={p.max}
      onPointerDown={drag}
      onKeyDown={onKey}
      onDoubleClick={p.onToggle}
      className={`${p.across === "columns" ? "cursor-col-resize" : "cursor-row-resize"} ${p.className ?? ""}`}
    />
  );
}
