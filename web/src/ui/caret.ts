/** The editor that a person was in last: what they point at goes to its cursor. */
let last: { insert: (path: string) => void; gone: () => boolean } | null = null;

/** Remembers an editor while it is on the page. */
export const remember = (editor: { insert: (path: string) => void; gone: () => boolean }) => {
  last = editor;
};

/** Puts a path where the cursor of the last editor is; false where there is none. */
export function insertAtCursor(path: string): boolean {
  if (!last || last.gone()) return false;
  last.insert(path);
  return true;
}

/** What a path is at a place of a text: in a template a hole, unless the place is in one. */
export function inserted(text: string, from: number, path: string, template: boolean): string {
  const before = text.slice(0, from);
  const inHole = before.lastIndexOf("${") > before.lastIndexOf("}");
  return template && !inHole ? `\${${path}}` : path;
}
