/** One printed line of a JSON document, with the place of what stands on it. */
export type Token = { text: string; kind: "name" | "value" | "mark"; pointer: string; path: string };
export type Line = { indent: number; tokens: Token[]; pointer: string; path: string };

/** A name as a pointer has it (RFC 6901, 3). */
export const escapeToken = (name: string) => name.replaceAll("~", "~0").replaceAll("/", "~1");

/**
 * Prints JSON text with one member per line, digits and escapes as they were
 * written. Returns null for text that is not JSON.
 */
export function layout(text: string): Line[] | null {
  try {
    JSON.parse(text);
  } catch {
    return null;
  }
  const lines: Line[] = [];
  let at = 0;
  let line: Line = { indent: 0, tokens: [], pointer: "", path: "" };
  let here = ""; // the path of what is written now: members by name, items by number
  const space = () => {
    while (/\s/.test(text[at] ?? "x")) at++;
  };
  const put = (t: string, kind: Token["kind"], pointer: string) =>
    line.tokens.push({ text: t, kind, pointer, path: here });
  const next = (indent: number, pointer: string) => {
    lines.push(line);
    line = { indent, tokens: [], pointer, path: here };
  };
  const word = () => {
    const start = at;
    if (text[at] === '"') {
      for (at++; text[at] !== '"'; at++) if (text[at] === "\\") at++;
      at++;
    } else while (at < text.length && !/[\s,\]}]/.test(text[at] ?? "")) at++;
    return text.slice(start, at);
  };
  const value = (pointer: string, indent: number) => {
    space();
    const open = text[at];
    if (open !== "{" && open !== "[") {
      put(word(), "value", pointer);
      return;
    }
    const close = open === "{" ? "}" : "]";
    at++;
    space();
    if (text[at] === close) {
      at++;
      put(open + close, "value", pointer);
      return;
    }
    put(open, "mark", pointer);
    const outer = here;
    for (let i = 0; ; i++) {
      space();
      let child = `${pointer}/${i}`;
      here = `${outer}[${i}]`;
      if (open === "{") {
        const name = word();
        const plain: string = JSON.parse(name);
        child = `${pointer}/${escapeToken(plain)}`;
        here = outer + member(plain);
        next(indent + 1, child);
        put(name, "name", child);
        put(": ", "mark", child);
        space();
        at++;
      } else next(indent + 1, child);
      value(child, indent + 1);
      space();
      if (text[at] === ",") {
        put(",", "mark", child);
        at++;
        continue;
      }
      at++;
      break;
    }
    here = outer;
    next(indent, pointer);
    put(close, "mark", pointer);
  };
  value("", 0);
  lines.push(line);
  return lines;
}

/** A member by its name, as an expression has it. */
const member = (name: string) => (/^[A-Za-z_][A-Za-z0-9_]*$/.test(name) ? `.${name}` : `[${JSON.stringify(name)}]`);

/** A JSON Pointer as an expression over body, or another name. */
export function pathOf(pointer: string, root = "body"): string {
  if (pointer === "") return root;
  return `${root}${pointer
    .slice(1)
    .split("/")
    .map((t) => t.replaceAll("~1", "/").replaceAll("~0", "~"))
    .map((t) => (/^\d+$/.test(t) ? `[${t}]` : /^[A-Za-z_][A-Za-z0-9_]*$/.test(t) ? `.${t}` : `[${JSON.stringify(t)}]`))
    .join("")}`;
}

/** Every path of a JSON text, for completion. */
export function paths(text: string, root = "body"): string[] {
  return [...new Set((layout(text) ?? []).map((l) => root + l.path))];
}

/** A plain path over body as a JSON Pointer; null for any other expression. */
export function pointerOf(path: string): string | null {
  if (!path.startsWith("body")) return null;
  let out = "";
  let rest = path.slice(4);
  while (rest) {
    const m = /^(?:\.([A-Za-z_]\w*)|\[(\d+)\]|\[("(?:[^"\\]|\\.)*")\])/.exec(rest);
    if (!m) return null;
    out += `/${escapeToken(m[1] ?? m[2] ?? JSON.parse(m[3] ?? '""'))}`;
    rest = rest.slice(m[0].length);
  }
  return out;
}

/** JSON without the blanks between its parts; what is no JSON stays as it is. */
export function compact(text: string): string {
  if (layout(text) === null) return text;
  return text.replace(/"(?:[^"\\]|\\.)*"|\s+/g, (m) => (m.startsWith('"') ? m : ""));
}

/** An expression over body as one over another document, and back. */
export const rooted = (expression: string, root = "body") =>
  root === "body" ? expression : expression.replace(/\bbody\b/, () => root);
export const unrooted = (expression: string, root: string) =>
  expression.includes(root) ? expression.replace(root, "body") : null;
