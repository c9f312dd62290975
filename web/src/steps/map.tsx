import type { StepView } from "./kit";
import type { MapField } from "./mapping/fields";
import { Target } from "./mapping/target";

export { Target as MapForm };

export const map: StepView = {
  verb: "Map",
  sentence: (s) => {
    const count = (l: MapField[]): number => l.reduce((n, f) => n + (f.fields === undefined ? 1 : count(f.fields)), 0);
    const loops = (l: MapField[]): number =>
      l.reduce((n, f) => n + (f.each === undefined ? 0 : 1) + loops(f.fields ?? []), 0);
    const n = count((s.fields ?? []) as MapField[]);
    const m = loops((s.fields ?? []) as MapField[]);
    const as = s.as && s.as !== "json" ? ` as ${String(s.as).toUpperCase()}` : "";
    const over = m ? `, ${m} ${m === 1 ? "loop" : "loops"}` : "";
    return `${s.start === "body" ? "the body, changing" : s.start === "example" ? "the example, changing" : "to"} ${n} ${n === 1 ? "line" : "lines"}${over}${as}`;
  },
  Form: Target,
  begin: () => ({ as: "json", fields: [] }),
};
