import { Chip, type FormProps, Pairs, type StepView } from "./kit";

const Form = (p: FormProps) => (
  <div className="p-3">
    <Pairs {...p} label="Values, under vars" setting="vars" nameHint="value" />
    <Pairs {...p} label="Headers" setting="headers" template nameHint="x-header" />
  </div>
);

export const set: StepView = {
  verb: "Set",
  sentence: (s) => {
    const names = [
      ...Object.keys(s.vars ?? {}).map((n) => `vars.${n}`),
      ...Object.keys(s.headers ?? {}).map((n) => `header ${n}`),
    ];
    return names.length ? names.map((n) => <Chip key={n}>{n}</Chip>) : "nothing yet";
  },
  Form,
  begin: () => ({ vars: {} }),
};
