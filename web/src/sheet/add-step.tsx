import { Command } from "cmdk";
import { useEffect, useRef, useState } from "react";
import type { Reference } from "../api/client";
import type { FlowDocument, Step } from "../model/model";
import { type Given, wantedOf } from "../model/wanted";
import { Sentence, viewOf } from "../steps";
import { Dialog } from "../ui/parts";

/** Offers steps that do what is typed, and the kinds of step with the reason to use each. */
export function AddStep(p: {
  open: boolean;
  doc: FlowDocument;
  given: Given;
  onClose: () => void;
  onGone: () => void;
  onAdd: (step: Partial<Step> & { kind: string }) => void;
  reference: Reference | undefined;
}) {
  const [text, setText] = useState("");
  const wanted = wantedOf(text, p.given);
  const add = (step: Partial<Step> & { kind: string }) => {
    setText("");
    p.onAdd(step);
  };
  // Enter that is pressed before the kinds have come is taken when they have.
  const input = useRef<HTMLInputElement>(null);
  const entered = useRef(false);
  useEffect(() => {
    if (!p.reference || !entered.current) return;
    entered.current = false;
    const t = setTimeout(() =>
      input.current?.dispatchEvent(new KeyboardEvent("keydown", { key: "Enter", bubbles: true, cancelable: true })),
    );
    return () => clearTimeout(t);
  }, [p.reference]);
  return (
    <Dialog open={p.open} onClose={p.onClose} onGone={p.onGone} title="Add a step below">
      <Command label="Kinds of step" loop>
        <Command.Input
          ref={input}
          autoFocus
          placeholder="What should it do?"
          className="field mb-2"
          value={text}
          onValueChange={(v) => {
            entered.current = false;
            setText(v);
          }}
          onKeyDown={(e) => {
            if (e.key !== "Enter" || p.reference) return;
            e.preventDefault();
            entered.current = true;
          }}
        />
        <p className="mb-1 text-[12.5px] text-quiet">
          A verb, or what you want: “only if body.n &gt; 1”, “wait 5 minutes”, “send to” and a connection.
        </p>
        <Command.List>
          <Command.Empty className="text-quiet">No kind of step says that.</Command.Empty>
          {wanted.map((step, i) => (
            <Command.Item
              key={`wanted ${i}`}
              value={`wanted ${i}`}
              keywords={[text]}
              onSelect={() => add(step)}
              className="cursor-pointer border-l-[3px] border-buoy px-2 py-1.5 data-[selected=true]:bg-mark"
            >
              <Sentence step={{ id: step.kind, ...step } as Step} />
            </Command.Item>
          ))}
          {p.reference?.kinds.map((k) => (
            <Command.Item
              key={k.name}
              value={`${k.name} ${k.summary}`}
              onSelect={() => add({ kind: k.name, ...viewOf(k.name).begin(p.doc) })}
              className="cursor-pointer px-2 py-1.5 data-[selected=true]:bg-mark"
            >
              <b className="text-deep">{viewOf(k.name).verb}</b> {k.summary}
              <p className="text-[12.5px] text-quiet">{k.reason}</p>
            </Command.Item>
          ))}
        </Command.List>
      </Command>
    </Dialog>
  );
}
