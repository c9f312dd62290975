import { useSystems } from "../systems";
import { RetryForm } from "../systems/retry";
import { settingsOf, type Value } from "../systems/schema";
import { Setting } from "../ui/parts";
import { errorAt, type FormProps, withSetting } from "./kit";

/** The step's own retry plan, in place of the connection's. */
export function StepRetry(p: FormProps) {
  const retry = (p.step.retry ?? null) as Value | null;
  const reached = useSystems().data?.find((s) => s.reached);
  const schema = settingsOf(reached?.connection).find(([name]) => name === "retry")?.[1];
  return (
    <Setting label="Retry plan" error={errorAt(p, "retry")}>
      <label className="mb-1 flex items-center gap-1.5">
        <input
          type="checkbox"
          checked={retry !== null}
          onChange={(e) => p.change(withSetting(p.step, "retry", e.target.checked ? {} : undefined), "")}
        />
        its own, instead of the connection's
      </label>
      {retry && schema && (
        <RetryForm
          schema={schema}
          value={retry}
          onChange={(r) => p.change(withSetting(p.step, "retry", r), "retry")}
          errors={(s) => errorAt(p, `retry/${s}`)}
        />
      )}
    </Setting>
  );
}
