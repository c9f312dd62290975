import { Chip } from "../steps/kit";
import type { Intake } from "./model";

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

/** What stands below the word Steps: where messages come in. */
export function intakeWhere(intake: Intake): string {
  if (intake.kind === "queue") return `queue ${intake.queue}`;
  if (intake.kind === "topic") return `topic ${intake.topic}`;
  return `${(intake.methods ?? ["POST"]).join(", ")} /in${intake.path} · answers when stored`;
}
