import { Message } from "node-hl7-client"; // a parser of HL7 v2 that is not ours: it says what our documents hold
import { against, expect } from "./app";

const test = against("serve");

type Field = string[][]; // repetitions of components
type Segment = { name: string; fields: Field[] };

/** Numbers that look random and are the same in every run (mulberry32). */
function numbers(seed: number) {
  let a = seed;
  return (below: number) => {
    a = (a + 0x6d2b79f5) | 0;
    let t = Math.imul(a ^ (a >>> 15), 1 | a);
    t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t;
    return ((t ^ (t >>> 14)) >>> 0) % below;
  };
}

const words = ["MAUD", "O'NEIL", "a|b", "c^d", "e&f", "g~h", "back\\slash", "\\E\\ as it is", "Łódź", "4 Sluice Lane", "é", "0", `${"x ".repeat(90)}x`];
const escaped = (s: string) => s.replace(/[\\|^&~]/g, (c) => `\\${{ "\\": "E", "|": "F", "^": "S", "&": "T", "~": "R" }[c]}\\`);

function document(next: (below: number) => number): Segment[] {
  const field = (): Field => Array.from({ length: next(5) === 0 ? 2 : 1 }, () => Array.from({ length: 1 + next(3) }, () => (next(4) === 0 ? "" : (words[next(words.length)] as string))));
  const fields = () => Array.from({ length: 3 + next(8) }, field);
  return [
    { name: "PID", fields: fields() },
    { name: "PV1", fields: fields() },
    ...Array.from({ length: 2 + next(3) }, () => ({ name: "OBX", fields: fields() })),
  ];
}

const written = (doc: Segment[]) =>
  ["MSH|^~\\&|LAB|NORTH|VAN|LARKFIELD|20260317094100||ORU^R01^ORU_R01|M-1|P|2.5.1|||||||UNICODE UTF-8"]
    .concat(doc.map((s) => [s.name, ...s.fields.map((f) => f.map((r) => r.map(escaped).join("^")).join("~"))].join("|")))
    .join("\r");

/** What the other parser reads at a place, counted from 1; "" for what is empty. */
function read(text: string, segment: string, nth: number, field: number, repetition: number, component: number): string {
  try {
    // biome-ignore lint/suspicious/noExplicitAny: the library's nodes have no type of their own
    const segments = new Message({ text }).get(segment) as any;
    const at = (segments.length > 1 || segment === "OBX" ? segments.get(nth - 1) : segments).get(String(field)).get(repetition - 1);
    return String(at.get(String(component)).toString() ?? "");
  } catch {
    return ""; // it has no node where nothing stands
  }
}

test("HL7 that our map edits is what another parser reads, and nothing else has changed", async ({ page, app }) => {
  for (let seed = 1; seed <= 20; seed++) {
    const next = numbers(seed);
    const doc = document(next);
    const source = written(doc);
    const fields: { to: string; from: string }[] = [];
    for (let n = 0; n < 5; n++) {
      const s = doc[next(doc.length)] as Segment;
      const nth = doc.filter((x) => x.name === s.name).indexOf(s) + 1;
      const [field, repetition, component] = [1 + next(14), 1 + (next(4) === 0 ? 1 : 0), 1 + next(4)];
      const value = words[next(words.length)] as string;
      while (s.fields.length < field) s.fields.push([[""]]);
      const f = s.fields[field - 1] as Field;
      while (f.length < repetition) f.push([""]);
      const r = f[repetition - 1] as string[];
      while (r.length < component) r.push("");
      r[component - 1] = value;
      fields.push({ to: `${s.name}${s.name === "OBX" ? `[${nth}]` : ""}-${field}${repetition > 1 ? `[${repetition}]` : ""}.${component}`, from: JSON.stringify(value) });
    }
    const base = `${app.base}/api/v1/flows/edits-${seed}`;
    await page.request.put(base, {
      data: {
        readyferry: "flow/1",
        name: `edits-${seed}`,
        intake: { kind: "webhook", path: `/edits-${seed}`, format: "hl7" },
        steps: [{ id: "edit", kind: "map", as: "hl7", start: "body", fields }],
      },
    });
    await page.request.put(`${base}/samples/one`, { data: { name: "one", body: source, headers: { "content-type": "application/hl7-v2" } } });
    const rehearsed = await (await page.request.post(`${base}/rehearse`, { data: {} })).json();
    const out = rehearsed[0].trace.at(-1).after.text as string;
    expect(out, `seed ${seed} has line ends of its own`).not.toContain("\n");
    const seen: Record<string, number> = {};
    for (const s of doc) {
      const nth = (seen[s.name] = (seen[s.name] ?? 0) + 1);
      s.fields.forEach((f, i) =>
        f.forEach((r, j) =>
          r.forEach((value, k) => {
            const place = `seed ${seed}, ${s.name}[${nth}]-${i + 1}[${j + 1}].${k + 1}, edits ${JSON.stringify(fields)}`;
            expect(read(out, s.name, nth, i + 1, j + 1, k + 1), place).toBe(value);
          }),
        ),
      );
    }
  }
});
