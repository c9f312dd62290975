import { useQuery } from "@tanstack/react-query";
import { enc, get, type Schedule } from "../api/client";
import { span } from "../ui/time";
import { SchemaForm } from "./form";
import type { Schema, Value } from "./schema";

/** The settings of a retry plan, with its whole schedule. */
export function RetryForm({
  schema,
  value,
  onChange,
  errors,
}: {
  schema: Schema;
  value: Value;
  onChange: (r: Value) => void;
  errors: (setting: string) => string | undefined;
}) {
  const query = Object.entries(value)
    .filter(([, v]) => typeof v !== "object")
    .map(([k, v]) => `${k}=${enc(String(v))}`)
    .join("&");
  const schedule = useQuery({
    queryKey: ["schedule", query],
    retry: false,
    placeholderData: (old: Schedule | undefined) => old,
    queryFn: () => get<Schedule>(`/api/v1/schedule?${query}`),
  });
  return (
    <div>
      <SchemaForm
        schema={schema}
        value={value}
        onChange={onChange}
        error={errors}
        omit={["again", "never", "delivered"]}
      />
      {schedule.error ? (
        <p role="alert" className="text-dead">
          {schedule.error.message}
        </p>
      ) : (
        schedule.data && (
          <p className="text-quiet" data-testid="schedule">
            {schedule.data.tries.length} tries:{" "}
            {schedule.data.tries
              .slice(0, 12)
              .map((t) =>
                t.try === 1
                  ? "at once"
                  : t.earliest === t.latest
                    ? `after ${span(t.latest)}`
                    : t.earliest === 0
                      ? `within ${span(t.latest)}`
                      : `${span(t.earliest)} to ${span(t.latest)}`,
              )
              .join(", ")}
            {schedule.data.tries.length > 12 && ", …"}; then dead letter, {span(schedule.data.ends.latest)} after the
            first try at the latest
          </p>
        )
      )}
    </div>
  );
}
