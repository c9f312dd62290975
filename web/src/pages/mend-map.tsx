import { useQuery } from "@tanstack/react-query";
import { call, enc, get, type Letter, type SampleRehearsal, type StoredMessage } from "../api/client";
import type { Step } from "../model/model";
import { MapForm } from "../steps/map";
import { useUsual } from "../systems";
import { Trouble } from "../ui/parts";

/** A map that makes the new message of a letter from the old one, edited as the step is, over one letter. */
export function MendMap(p: { letter: Letter; settings: object; onChange: (settings: object) => void }) {
  const usual = useUsual("map");
  const message = useQuery({
    queryKey: ["transactions", p.letter.transaction, "messages"],
    queryFn: () => get<StoredMessage[]>(`/api/v1/transactions/${p.letter.transaction}/messages`),
  });
  const last = message.data?.at(-1);
  const step = { id: "mend", kind: "map", ...p.settings } as Step;
  const headers = Object.fromEntries(last?.headers.map((h) => [h.name, h.value]) ?? []);
  const gone = useQuery({
    queryKey: ["mend", p.letter.id, p.settings, last?.n],
    enabled: !!last,
    placeholderData: (was: SampleRehearsal | undefined) => was,
    queryFn: async () => {
      const document = {
        readyferry: "flow/1",
        name: p.letter.flow,
        intake: { kind: "webhook", path: "/mend" },
        steps: [step],
      };
      const { value } = await call<SampleRehearsal[]>(`/api/v1/flows/${enc(p.letter.flow)}/rehearse`, {
        body: { document, samples: [{ name: "letter", body: last?.body?.text ?? "", headers, params: {}, query: {} }] },
      });
      return value[0];
    },
  });
  if (message.error) return <Trouble error={message.error} />;
  if (gone.error) return <Trouble error={gone.error} />;
  const none = () => {};
  return (
    <MapForm
      step={step}
      change={(next) => {
        const { id: _, kind: __, ...settings } = next;
        p.onChange(settings);
      }}
      findings={[]}
      pointer="/steps/0"
      entry={gone.data?.trace[0]}
      completions={[]}
      usual={usual}
      headers={headers}
      onFill={none}
      onHoverField={none}
      litField={null}
      names={{ connections: [], kinds: {}, queues: [], topics: [], tables: [], flow: p.letter.flow }}
    />
  );
}
