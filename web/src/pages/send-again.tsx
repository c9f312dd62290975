import { useState } from "react";
import { useNavigate } from "react-router";
import { toast } from "sonner";
import { call } from "../api/client";
import { Mark } from "../ui/marks";
import { Dialog, Select, Setting, says, Text } from "../ui/parts";
import { number } from "../ui/time";
import { who } from "./letters";
import { useLook } from "./look";

/** What the list is narrowed to. */
export type Narrowed = {
  flow?: string;
  state?: string;
  reference?: string;
  filter?: string;
  from?: string;
  to?: string;
};

/** Sends the transactions of a list once more, as they were or under the live version, looked at beforehand. */
export function SendAgain({ of, onClose }: { of: Narrowed; onClose: () => void }) {
  const go = useNavigate();
  const [keys, setKeys] = useState("old");
  const [version, setVersion] = useState("own");
  const [pace, setPace] = useState("");
  const [why, setWhy] = useState("");
  const order = { transactions: of, what: "again", newKeys: keys === "new", version };
  const { preview, wrong } = useLook(order);
  const done = preview !== undefined && preview.state !== "running";
  const outcomes = preview?.under[version] ?? preview?.under[preview.version || "own"] ?? [];
  const begin = async () => {
    try {
      const { value } = await call<{ id: string }>("/api/v1/repairs", {
        body: { ...order, why, by: who(), ...(pace ? { pace: Number(pace) } : {}) },
      });
      go(`/dead-letters/repairs/${value.id}`);
    } catch (e) {
      toast.error(says(e));
    }
  };
  return (
    <Dialog open onClose={onClose} title="Send these again">
      <p className="mb-3 text-quiet">
        Every transaction that the list is narrowed to goes through its flow once more, with the message that came. The
        ones that were stay as they are.
      </p>
      <Setting label="Keys" hint="by which targets tell a repeat">
        <Select
          label="Keys"
          value={keys}
          onChange={setKeys}
          options={[
            ["old", "the old ones: who has had it takes it for a repeat"],
            ["new", "new ones: targets take it for another message"],
          ]}
        />
      </Setting>
      <Setting label="Version">
        <Select
          label="Version"
          value={version}
          onChange={setVersion}
          options={[
            ["own", "the version of each"],
            ["live", "the live version"],
          ]}
        />
      </Setting>
      <div className="flex gap-3">
        <Setting inline label="So many a second">
          <Text label="So many a second" type="number" placeholder="all at once" value={pace} onChange={setPace} />
        </Setting>
        <Setting inline label="Why">
          <Text label="Why" placeholder="for those who ask later" value={why} onChange={setWhy} />
        </Setting>
      </div>
      <div className="mb-3 min-h-16" data-testid="look-again">
        {wrong && (
          <p role="alert" className="text-dead">
            {wrong}
          </p>
        )}
        {!wrong && !done && (
          <p className="text-quiet">
            Looking at what would happen{preview && `, ${number(preview.done)} of ${number(preview.total)}`}…
          </p>
        )}
        <ul>
          {outcomes.map((o) => (
            <li key={o.state + o.text} className="flex gap-2">
              <b className="w-10 text-right tabular-nums">{o.count}</b>
              <Mark state={o.state} />
              <span>
                {o.state}
                {o.text && <span className="text-quiet">: {o.text}</span>}
              </span>
            </li>
          ))}
        </ul>
      </div>
      <button type="button" className="btn btn-go" disabled={!done || !preview?.total} onClick={() => void begin()}>
        {done ? `Send ${number(preview.total)} again` : "Looking…"}
      </button>
    </Dialog>
  );
}
