import type { Intake } from "../model/model";
import { Chip } from "../steps/kit";
import { useSystems } from "../systems";

/** The intake as a sentence. */
export function IntakeSentence({ intake }: { intake: Intake }) {
  if (intake.kind === "queue") {
    return (
      <>
        <b className="text-deep">Receive</b> from queue <Chip>{intake.queue}</Chip>
      </>
    );
  }
  if (intake.kind === "topic") {
    return (
      <>
        <b className="text-deep">Receive</b> from topic <Chip>{intake.topic}</Chip>
        {intake.subscription && (
          <>
            , subscription <Chip>{intake.subscription}</Chip>
          </>
        )}
      </>
    );
  }
  if (intake.kind === "schedule")
    return (
      <>
        <b className="text-deep">Begin</b> {dueText(intake)}
      </>
    );
  if (intake.kind === "poll" || intake.kind === "table")
    return (
      <>
        <b className="text-deep">Poll</b> <Chip>{String(intake.of ?? "")}</Chip>{" "}
        {intake.kind === "table" ? (
          <>
            table <Chip>{String(intake.table ?? "")}</Chip> for {intake.changed ? "new and changed" : "new"}
            {intake.deleted ? " and deleted" : ""} rows
          </>
        ) : (
          <>
            for each of <Chip>{String(intake.each ?? "")}</Chip>
          </>
        )}
        , {dueText(intake)}
      </>
    );
  if (intake.kind === "subflow" || intake.kind === "load")
    return (
      <>
        <b className="text-deep">Receive</b> {intake.kind === "load" ? "records of bulk loads" : "from other flows"}
      </>
    );
  if (intake.kind !== "webhook")
    return (
      <>
        <b className="text-deep">Receive</b> from <Chip>{String(intake.of ?? "")}</Chip> <WhatOf intake={intake} />
      </>
    );
  return (
    <>
      <b className="text-deep">Receive</b> webhook{" "}
      {intake.callers?.length ? (
        <>
          from <Chip>{intake.callers.join(", ")}</Chip>
        </>
      ) : (
        "from anyone"
      )}
      {intake.once && (
        <>
          , once per <Chip>{intake.once}</Chip>
        </>
      )}
    </>
  );
}

/** What a flow receives of an outside system: what its intake must say besides the connection. */
function WhatOf({ intake }: { intake: Intake }) {
  const systems = useSystems().data ?? [];
  const said = systems.find((s) => s.kind === intake.kind)?.intake?.required ?? [];
  return said
    .map((name) => String((intake as Record<string, unknown>)[name] ?? ""))
    .filter((v) => v !== "")
    .map((v) => <Chip key={v}>{v}</Chip>);
}

/** What stands below the word Steps: where messages come in. */
export function intakeWhere(intake: Intake): string {
  if (intake.kind === "queue") return `queue ${intake.queue}`;
  if (intake.kind === "topic") return `topic ${intake.topic}`;
  if (intake.kind === "schedule") return dueText(intake);
  if (intake.kind === "poll" || intake.kind === "table") return `polled, ${dueText(intake)}`;
  if (intake.kind === "subflow") return "called by other flows";
  if (intake.kind === "load") return "loaded in bulk";
  if (intake.kind !== "webhook") return `${intake.kind}, ${intake.of}`;
  if (intake.answer === "finished")
    return `${(intake.methods ?? ["POST"]).join(", ")} /in${intake.path} · answers when finished`;
  return `${(intake.methods ?? ["POST"]).join(", ")} /in${intake.path} · answers when stored`;
}

/** When a schedule or poll is due, in words. */
function dueText(intake: Intake): string {
  if (intake.cron) return `at ${intake.cron}, ${intake.zone ?? "UTC"}`;
  return `every ${intake.every ?? "1m"}`;
}
