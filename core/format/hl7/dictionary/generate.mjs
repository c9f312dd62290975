// Makes dictionary.json from the npm package hl7-dictionary 1.0.1 (MIT, Fernando Serrano):
//   npm install --no-save hl7-dictionary@1.0.1 && node generate.mjs
// What is equal in two versions stands once: a version names only what it has otherwise than
// the one before.
import { createRequire } from "node:module";
import { writeFileSync } from "node:fs";

const { definitions, tables } = createRequire(import.meta.url)("hl7-dictionary");

const part = (p) => [p.desc.trim(), p.datatype, p.table ?? 0, p.rep === 0 ? 1 : 0, p.opt === 2 ? 1 : 0];
const segment = (s) => [s.desc.trim(), s.fields.map(part)];
const type = (t) => [t.desc.trim(), t.subfields.map(part)];
/** MSH [SFT] {PID} <group …>: in brackets what may be missing, in braces what repeats. */
const structure = (list) =>
  list
    .map((s) => {
      const inner = s.children ? `(${structure(s.children)})` : s.name;
      return (s.min === 0 ? "?" : "") + (s.max === 0 ? "*" : "") + inner;
    })
    .join(" ");
const message = (m) => [m.desc.trim(), structure(m.segments.segments)];

const out = { versions: [], tables: {} };
const had = { segments: {}, types: {}, messages: {} };
const differs = (kind, all, make) => {
  const changed = {};
  for (const [name, value] of Object.entries(all)) {
    const made = make(value);
    if (JSON.stringify(had[kind][name]) !== JSON.stringify(made)) changed[name] = made;
    had[kind][name] = made;
  }
  for (const name of Object.keys(had[kind]))
    if (!(name in all)) {
      changed[name] = null;
      delete had[kind][name];
    }
  return changed;
};
for (const version of Object.keys(definitions).sort()) {
  const d = definitions[version];
  out.versions.push({
    version,
    segments: differs("segments", d.segments, segment),
    types: differs("types", d.fields, type),
    messages: differs("messages", d.messages, message),
  });
}
for (const [number, t] of Object.entries(tables)) out.tables[Number(number)] = [t.desc.trim(), t.values];
// An entry a line, so that a change of the data can be read.
const lines = (all) => `{\n${Object.entries(all).map(([k, v]) => `${JSON.stringify(k)}:${JSON.stringify(v)}`).join(",\n")}\n}`;
const written = ({ version, ...kinds }) =>
  `{"version":${JSON.stringify(version)},\n${Object.entries(kinds).map(([k, v]) => `"${k}":${lines(v)}`).join(",\n")}}`;
writeFileSync(
  new URL("dictionary.json", import.meta.url),
  `{"versions":[\n${out.versions.map(written).join(",\n")}\n],\n"tables":${lines(out.tables)}}\n`,
);
