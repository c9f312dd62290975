// biome-ignore lint/suspicious/noExplicitAny: a message is a tree of maps and lists
type Tree = any;

type Leaf = { path: string[]; value: Tree };

/** The values of a message, each with the names that lead to it; of a list, those of its first item. */
function leaves(v: Tree, path: string[] = []): Leaf[] {
  if (Array.isArray(v)) return [];
  if (v && typeof v === "object") return Object.entries(v).flatMap(([k, x]) => leaves(x, [...path, k]));
  return [{ path, value: v }];
}

const plain = (name: string) => name.toLowerCase().replace(/[^a-z0-9]/g, "");

/** request_id and requestId end in id. */
const lastWord = (name: string) =>
  name
    .replace(/([a-z0-9])([A-Z])/g, "$1 $2")
    .split(/[^A-Za-z0-9]+/)
    .filter(Boolean)
    .at(-1)
    ?.toLowerCase();

/** How well a name fits another: the same, one in the other, or not at all. */
function fits(target: string[], source: string[], value: Tree, example: Tree): number {
  const [t, s] = [plain(target.at(-1) ?? ""), plain(source.at(-1) ?? "")];
  const same = JSON.stringify(value) === JSON.stringify(example) && String(value).length > 1;
  const whole = plain(target.join("")) === plain(source.join(""));
  if (same && (t === s || t.includes(s) || s.includes(t))) return 5;
  if (whole) return 4;
  if (t === s) return 3;
  if (same) return 2;
  if (t.length > 2 && s.length > 2 && (t.includes(s) || s.includes(t))) return 1;
  if (lastWord(target.at(-1) ?? "") === lastWord(source.at(-1) ?? "")) return 1;
  return 0;
}

const expression = (path: string[]) =>
  path.reduce((e, k) => (/^[A-Za-z_]\w*$/.test(k) ? `${e}.${k}` : `${e}[${JSON.stringify(k)}]`), "body");

const pointer = (path: string[]) => path.map((k) => `/${k.replace(/~/g, "~0").replace(/\//g, "~1")}`).join("");

/** Lines of a map that make what a target wants of what a partner sends, by names and values that are alike. */
export function linesBetween(comes: string, wanted: string): { to: string; from: string }[] {
  const [from, to] = [leaves(JSON.parse(comes)), leaves(JSON.parse(wanted))];
  return to.flatMap((t) => {
    let best: Leaf | undefined;
    let score = 0;
    for (const s of from) {
      const f = fits(t.path, s.path, s.value, t.value);
      if (f > score) [best, score] = [s, f];
    }
    return best ? [{ to: pointer(t.path), from: expression(best.path) }] : [];
  });
}
