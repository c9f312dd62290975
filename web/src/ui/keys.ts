/** True while a person types, when single keys are not commands. */
export function typing(e: KeyboardEvent): boolean {
  const t = e.target as HTMLElement | null;
  return !!t?.closest("input, textarea, select, [contenteditable=true], [role=dialog]");
}
