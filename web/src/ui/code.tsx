import { lazy, Suspense } from "react";
import type { Completion } from "./editor";

const Editor = lazy(() => import("./editor"));

export type CodeProps = React.ComponentProps<typeof Editor>;
export type { Completion };

/** The editor, loaded when it is first needed; until then the plain value. */
export function Code(p: CodeProps) {
  return (
    <Suspense fallback={<div className="field data overflow-hidden">{p.value}</div>}>
      <Editor {...p} />
    </Suspense>
  );
}
