import { useState } from "react";
import { toast } from "sonner";
import { call } from "../api/client";
import { queryClient } from "../api/queries";
import { useOutbound, usePublishing } from "../api/session";
import { PageHead, says, Text, Trouble } from "../ui/parts";
import { ErasePerson } from "./erase";

/** What is typed in place of what is set: that stands there until somebody types, and again once it is saved. */
function useTyped(set: string | undefined) {
  const [typed, setTyped] = useState<string>();
  return { text: typed ?? set ?? "", ready: set !== undefined, type: setTyped, saved: () => setTyped(undefined) };
}

/** In which areas publishing needs two persons. */
function SecondPersons() {
  const now = usePublishing();
  const areas = useTyped(now.data?.secondPerson.join(", "));
  const [bad, setBad] = useState<string>();
  const save = async () => {
    setBad(undefined);
    try {
      await call("/api/v1/publishing", {
        method: "PUT",
        body: { secondPerson: areas.text.split(/[\s,]+/).filter(Boolean) },
      });
      await queryClient.invalidateQueries({ queryKey: ["publishing"] });
      areas.saved();
      toast.success("Whatever is published from now on follows it");
    } catch (e) {
      setBad(says(e));
    }
  };
  return (
    <section aria-labelledby="second">
      <h2 id="second" className="mb-2">
        Two persons for publishing
      </h2>
      <p className="mb-2">
        In these areas one person asks, and another publishes the same draft. <span className="chip">*</span> stands for
        all flows; nothing here means that one person is enough.
      </p>
      {now.error && <Trouble error={now.error} />}
      <Text
        label="Areas in which publishing needs two persons"
        value={areas.text}
        onChange={areas.type}
        disabled={!areas.ready}
      />
      {bad && (
        <p role="alert" className="my-2 text-dead">
          {bad}
        </p>
      )}
      <button type="button" className="btn btn-go mt-2" disabled={!areas.ready} onClick={save}>
        Save the areas
      </button>
    </section>
  );
}

/** What an owner sets for all. */
export default function SettingsPage() {
  const outbound = useOutbound();
  const list = useTyped(outbound.data?.list.join("\n"));
  const [bad, setBad] = useState<string>();
  const save = async () => {
    setBad(undefined);
    try {
      await call("/api/v1/outbound", {
        method: "PUT",
        body: {
          list: list.text
            .split("\n")
            .map((l) => l.trim())
            .filter(Boolean),
        },
      });
      await queryClient.invalidateQueries({ queryKey: ["outbound"] });
      list.saved();
      toast.success("Whatever is called from now on follows the list");
    } catch (e) {
      setBad(says(e));
    }
  };
  return (
    <>
      <PageHead title="Settings" facts="what holds for all" />
      {outbound.error && <Trouble error={outbound.error} />}
      <div className="grid min-h-0 flex-1 content-start gap-x-8 gap-y-6 overflow-auto p-4 lg:grid-cols-2">
        <section aria-labelledby="outside">
          <h2 id="outside" className="mb-2">
            Addresses outside
          </h2>
          <p className="mb-2">
            Whoever saves a connection permits its own host, as the kind of address that it has then. Anything else, and
            names that come to addresses inside only later, need a line here: a name, *.name, an address or a range,
            with :port where only that one is meant.
          </p>
          <textarea
            aria-label="Addresses outside"
            className="field data h-44 w-full"
            spellCheck={false}
            placeholder={"*.partner.example\n10.20.0.0/16\nprinter:9100"}
            value={list.text}
            disabled={!list.ready}
            onChange={(e) => list.type(e.target.value)}
          />
          {bad && (
            <p role="alert" className="my-2 text-dead">
              {bad}
            </p>
          )}
          <button type="button" className="btn btn-go mt-2" disabled={!list.ready} onClick={save}>
            Save the list
          </button>
        </section>
        <SecondPersons />
        <ErasePerson />
        <section aria-labelledby="hosts">
          <h2 id="hosts" className="mb-2">
            What connections permit
          </h2>
          <table className="grid-table">
            <thead>
              <tr>
                <th>Connection</th>
                <th>Host</th>
                <th>Was, when it was saved</th>
              </tr>
            </thead>
            <tbody>
              {outbound.data?.hosts.map((h) => (
                <tr key={`${h.connection} ${h.host}`}>
                  <td>{h.connection}</td>
                  <td className="data">{h.host}</td>
                  <td>{h.kinds.map((k) => (k === "*" ? "of any kind" : k)).join(", ") || "not known"}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {outbound.data?.hosts.length === 0 && <p className="text-quiet">No connection leaves this machine.</p>}
        </section>
      </div>
    </>
  );
}
