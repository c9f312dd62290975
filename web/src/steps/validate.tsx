import { useState } from "react";
import { call, enc, get } from "../api/client";
import { Code } from "../ui/code";
import { Setting, says } from "../ui/parts";
import { Chip, ElseSetting, errorAt, type FormProps, type StepView, withSetting } from "./kit";

type Schema = { $ref?: string; title?: string };

function Form(p: FormProps) {
  const schema = (p.step.schema ?? {}) as Schema;
  const [text, setText] = useState(() => JSON.stringify(schema, null, 2));
  const [bad, setBad] = useState<string>();
  const edit = (t: string) => {
    setText(t);
    try {
      p.change(withSetting(p.step, "schema", JSON.parse(t)), "schema");
      setBad(undefined);
    } catch (e) {
      setBad(`this is no JSON yet: ${(e as Error).message}`);
    }
  };
  const takeIn = async () => {
    try {
      const files = await get<Record<string, string>>(`/api/v1/flows/${enc(p.names.flow)}/files`);
      const file = files[schema.$ref ?? ""];
      if (file === undefined) throw new Error(`The flow has no file ${schema.$ref}`);
      edit(JSON.stringify(JSON.parse(file), null, 2));
    } catch (e) {
      setBad(says(e));
    }
  };
  const infer = async (how: { enums?: boolean; formats?: boolean }) => {
    try {
      const { value } = await call<{ schema: Schema; left: string[] }>(`/api/v1/flows/${enc(p.names.flow)}/infer`, {
        body: how,
      });
      edit(JSON.stringify(value.schema, null, 2));
      if (value.left.length) setBad(`not read and left out: ${value.left.join(", ")}`);
    } catch (e) {
      setBad(says(e));
    }
  };
  return (
    <div className="p-3">
      <ElseSetting {...p} />
      <Setting
        label="JSON Schema (draft 2020-12)"
        error={bad ?? errorAt(p, "schema")}
        hint={schema.$ref ? `the schema stands in the flow's file ${schema.$ref}` : undefined}
      >
        <div className="h-44 border border-line">
          <Code label="JSON Schema" language="json" value={text} onChange={edit} />
        </div>
      </Setting>
      <div className="flex items-center gap-4">
        <button type="button" className="btn-bare" onClick={() => infer({})}>
          infer it from the samples
        </button>
        <button type="button" className="btn-bare" onClick={() => infer({ enums: true })}>
          with lists of values
        </button>
        <button type="button" className="btn-bare" onClick={() => infer({ formats: true })}>
          with dates and mail addresses
        </button>
      </div>
      {schema.$ref && !schema.$ref.startsWith("#") && (
        <button type="button" className="btn-bare" onClick={takeIn}>
          write it here instead, to change it
        </button>
      )}
    </div>
  );
}

export const validate: StepView = {
  verb: "Validate",
  sentence: (s) => {
    const schema = (s.schema ?? {}) as Schema;
    const name =
      schema.$ref
        ?.split("/")
        .at(-1)
        ?.replace(/\.json$/, "") ??
      schema.title ??
      "its schema";
    return (
      <>
        body against <Chip>{name}</Chip>
      </>
    );
  },
  Form,
  begin: () => ({ schema: { type: "object" }, else: { answer: 422 } }),
};
