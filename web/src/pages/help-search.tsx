import { useEffect, useMemo, useState } from "react";
import { Link } from "react-router";
import { useReference } from "../api/queries";
import { viewOf } from "../steps";
import { useSystems } from "../systems";

type Hit = { to: string; title: string; text: string; found: string };

/** Finds what the help says: kinds of step, systems, functions and sections, by every word that is typed. */
export function HelpSearch() {
  const [text, setText] = useState("");
  const reference = useReference().data;
  const systems = useSystems().data;
  const [sections, setSections] = useState<Hit[]>([]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the page is longer once they are there
  useEffect(() => {
    const all = document.querySelectorAll<HTMLElement>("[data-help] section[id]");
    setSections(
      [...all].map((s) => ({
        to: `#${s.id}`,
        title: s.querySelector("h2")?.textContent ?? s.id,
        text: "on this page",
        found: s.textContent ?? "",
      })),
    );
  }, [reference, systems]);
  const hits = useMemo((): Hit[] => {
    const all: Hit[] = [
      ...(reference?.kinds ?? []).map((k) => ({
        to: `/help/step/${k.name}`,
        title: viewOf(k.name).verb,
        text: k.summary,
        found: `${k.name} ${k.summary} ${k.reason} ${JSON.stringify(k.settings)}`,
      })),
      ...(systems ?? []).map((s) => ({
        to: `/help/system/${s.kind}`,
        title: s.title,
        text: s.summary,
        found: `${s.kind} ${s.summary} ${JSON.stringify([s.connection, s.intake, s.deliver, s.ask])}`,
      })),
      ...(reference?.functions ?? []).map((f) => ({
        to: `/help/function/${f.name}`,
        title: f.signature,
        text: f.text,
        found: `${f.name} ${f.text} ${f.examples.map((x) => x.expression).join(" ")}`,
      })),
      ...sections,
    ];
    const words = text.toLowerCase().split(/\s+/).filter(Boolean);
    if (words.length === 0) return [];
    const score = (h: Hit) => {
      const [title, short] = [h.title.toLowerCase(), h.text.toLowerCase()];
      const whole = `${title} ${short} ${h.found.toLowerCase()}`;
      if (!words.every((w) => whole.includes(w))) return 0;
      const one = (w: string) => (title.startsWith(w) ? 4 : title.includes(w) ? 3 : short.includes(w) ? 2 : 1);
      return words.reduce((n, w) => n + one(w), 0);
    };
    return all
      .map((h): [number, Hit] => [score(h), h])
      .filter(([n]) => n > 0)
      .sort(([a], [b]) => b - a)
      .slice(0, 12)
      .map(([, h]) => h);
  }, [text, reference, systems, sections]);
  return (
    <div>
      <input
        type="search"
        aria-label="Search the help"
        placeholder="Search the help"
        className="field"
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      {text.trim() !== "" && (
        <ul className="mt-1 border border-line bg-sheet" data-testid="help-hits">
          {hits.map((h) => (
            <li key={h.to + h.title} className="border-b border-line px-3 py-1.5 last:border-0">
              {h.to.startsWith("#") ? (
                <a className="font-bold underline" href={h.to}>
                  {h.title}
                </a>
              ) : (
                <Link className="font-bold underline" to={h.to}>
                  {h.title}
                </Link>
              )}{" "}
              <span className="text-quiet">{h.text}</span>
            </li>
          ))}
          {hits.length === 0 && <li className="px-3 py-1.5 text-quiet">Nothing in the help says that.</li>}
        </ul>
      )}
    </div>
  );
}
