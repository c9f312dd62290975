import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, get, type Schemas } from "../api/client";
import { queryClient, useFlows } from "../api/queries";
import { says } from "../ui/parts";
import { number } from "../ui/time";

type Erasure = Schemas["Erasure"];

const words = (e: Erasure) =>
  `${number(e.found)} transactions are of it: ${number(e.erased)} ${e.preview ? "would be" : "are"} blanked, ${number(e.left)} have not ended and stay; ` +
  `${number(e.samples)} ${e.samples === 1 ? "sample" : "samples"} ${e.preview ? "would be" : "are"} blanked`;

/** Takes one person's value out of what is kept, and says how far it is. */
export function ErasePerson() {
  const flows = useFlows();
  const [flow, setFlow] = useState("");
  const [value, setValue] = useState("");
  const [bad, setBad] = useState<string>();
  const [counted, setCounted] = useState<string>(); // flow and value that were counted
  const [begun, setBegun] = useState(false);
  const what = `${flow} ${value}`;
  const now = useQuery({
    queryKey: ["erasure"],
    queryFn: () => get<Erasure>("/api/v1/erasures"),
    refetchInterval: (q) => (q.state.data?.state === "looking" ? 500 : false),
  });
  const e = now.data;
  const looking = e?.state === "looking";
  const begin = async (preview: boolean) => {
    setBad(undefined);
    try {
      await call("/api/v1/erasures", { body: { flow, value, preview } });
      setBegun(true);
      setCounted(preview ? what : undefined);
      await queryClient.invalidateQueries({ queryKey: ["erasure"] });
    } catch (err) {
      setBad(says(err));
    }
  };
  const stop = async () => {
    await call("/api/v1/erasures", { method: "DELETE" });
    await queryClient.invalidateQueries({ queryKey: ["erasure"] });
  };
  return (
    <section aria-labelledby="erase">
      <h2 id="erase" className="mb-2">
        Erase a person's data
      </h2>
      <p className="mb-2">
        What stands in a field that the flow masks, and the same wherever it went from there: messages, answers,
        reasons, references, samples. What has not ended is left; erase once more when it has. This cannot be undone.
      </p>
      <div className="grid grid-cols-2 gap-2">
        <label>
          Flow that masks it
          <select className="field" value={flow} onChange={(v) => setFlow(v.target.value)}>
            <option value="">choose one</option>
            {flows.data?.map((f) => (
              <option key={f.name} value={f.name}>
                {f.title || f.name}
              </option>
            ))}
          </select>
        </label>
        <label>
          Value in that field
          <input className="field" value={value} autoComplete="off" onChange={(v) => setValue(v.target.value)} />
        </label>
      </div>
      {bad && (
        <p role="alert" className="my-2 text-dead">
          {bad}
        </p>
      )}
      <div className="mt-2 flex items-center gap-2">
        <button type="button" className="btn" disabled={!flow || !value || looking} onClick={() => begin(true)}>
          Count first
        </button>
        <button
          type="button"
          className="btn btn-go"
          disabled={!flow || !value || looking || counted !== what || !e?.preview || e.state !== "done"}
          onClick={() => begin(false)}
        >
          Erase it
        </button>
        {looking && (
          <button type="button" className="btn" onClick={stop}>
            Stop
          </button>
        )}
      </div>
      {begun && e && e.state !== "none" && (
        <p className="mt-2" role="status" data-testid="erasure">
          {looking ? `${number(e.looked)} messages looked at…` : e.state === "failed" ? e.error : words(e)}
        </p>
      )}
    </section>
  );
}
