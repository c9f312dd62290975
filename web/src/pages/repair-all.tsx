import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { toast } from "sonner";
import { call, get, type Letter, type Schemas } from "../api/client";
import { useConnections } from "../api/queries";
import { Code } from "../ui/code";
import { Mark } from "../ui/marks";
import { says } from "../ui/parts";
import type { Choice } from "./letters";
import { useLook } from "./look";
import { MendMap } from "./mend-map";
import type { Edit } from "./repair";

const ways = ["as they are", "JSON Patch", "find and replace", "a map"] as const;
const examplePatch = '[\n  {"op": "replace", "path": "/branch", "value": "MARL"}\n]';

/** One repair for all letters of a choice: what is changed, what would come of it, and how fast it goes. */
export function RepairAll(p: {
  choice: Choice;
  total: number;
  letter: Letter;
  onEdit: (e: Edit) => void;
  onBegun: () => Promise<unknown>;
}) {
  const go = useNavigate();
  const connections = useConnections();
  const [way, setWay] = useState<(typeof ways)[number]>("as they are");
  const [patch, setPatch] = useState(examplePatch);
  const [find, setFind] = useState("");
  const [put, setPut] = useState("");
  const [regexp, setRegexp] = useState(false);
  const [map, setMap] = useState<object>({ as: "json", start: "body", fields: [] });
  const [under, setUnder] = useState(""); // "": as the evidence says
  const [insist, setInsist] = useState(false);
  const [pace, setPace] = useState("");
  const [when, setWhen] = useState("");
  const [night, setNight] = useState("");
  const [most, setMost] = useState("");
  const [why, setWhy] = useState("");
  const change = useMemo((): Edit | string => {
    if (way === "JSON Patch") {
      try {
        return { patch: JSON.parse(patch) };
      } catch {
        return "the patch is no JSON";
      }
    }
    if (way === "find and replace") return find ? { replace: { find, with: put, regexp } } : "say what to find";
    return way === "a map" ? { map } : {};
  }, [way, patch, find, put, regexp, map]);
  const edit = useMemo(
    () => (typeof change === "string" ? null : { ...change, ...(insist ? { insist } : {}) }),
    [change, insist],
  );
  const { preview, wrong: refused } = useLook(
    edit && { ...p.choice, what: "resend", ...edit, ...(under ? { version: under } : {}) },
  );
  const wrong = typeof change === "string" ? change : refused;
  const version = preview?.state === "running" ? "" : (preview?.version ?? "");
  useEffect(() => {
    if (edit) p.onEdit({ ...edit, ...(version ? { version } : {}) });
  }, [edit, version, p.onEdit]);
  const done = preview !== undefined && preview.state !== "running";
  const outcomes = preview?.under[preview.version || "own"] ?? [];
  const named =
    version === "live"
      ? `version ${preview?.live || "that is live"}`
      : `version ${preview?.own || "of each"}${preview?.live && preview.live === preview.own ? ", the live one" : ", its own"}`;
  const begin = async () => {
    try {
      const at = night ? nextAt(night) : undefined;
      const { value } = await call<{ id: string }>("/api/v1/repairs", {
        body: {
          ...p.choice,
          what: "resend",
          ...edit,
          version,
          why,
          by: localStorage.getItem("who") ?? "",
          ...(pace ? { pace: Number(pace) } : {}),
          ...(when ? { when } : {}),
          ...(at ? { beginAt: at } : {}),
          ...(most ? { most: Number(most), nightly: true, beginAt: at ?? new Date().toISOString() } : {}),
        },
      });
      go(`/dead-letters/repairs/${value.id}`);
      await p.onBegun();
    } catch (e) {
      toast.error(says(e));
    }
  };
  return (
    <section aria-label="Repair all" className="grid h-[46%] shrink-0 grid-cols-[5fr_4fr_3fr] border-t-2 border-deep">
      <div className="flex min-h-0 min-w-0 flex-col border-r border-line">
        <h2 className="pane-head">
          What is changed in all {p.total}
          <select
            aria-label="How they are changed"
            className="field !w-auto"
            value={way}
            onChange={(e) => setWay(e.target.value as typeof way)}
          >
            {ways.map((w) => (
              <option key={w}>{w}</option>
            ))}
          </select>
        </h2>
        <div className="min-h-0 flex-1 overflow-auto">
          {way === "as they are" && <p className="p-3 text-quiet">The messages go again as they came in.</p>}
          {way === "JSON Patch" && <Code label="JSON Patch" language="json" value={patch} onChange={setPatch} />}
          {way === "find and replace" && (
            <div className="grid gap-2 p-3">
              <label>
                Find
                <input
                  aria-label="Find"
                  className="field data"
                  value={find}
                  onChange={(e) => setFind(e.target.value)}
                />
              </label>
              <label>
                Put in its place
                <input
                  aria-label="Put in its place"
                  className="field data"
                  value={put}
                  onChange={(e) => setPut(e.target.value)}
                />
              </label>
              <label className="flex items-center gap-1.5">
                <input type="checkbox" checked={regexp} onChange={(e) => setRegexp(e.target.checked)} /> it is a regular
                expression
              </label>
            </div>
          )}
          {way === "a map" && <MendMap letter={p.letter} settings={map} onChange={setMap} />}
        </div>
      </div>
      <div className="flex min-h-0 min-w-0 flex-col border-r border-line bg-sheet">
        <h2 className="pane-head bg-paper">
          What would happen
          {preview && preview.state === "running" && (
            <span className="font-normal text-quiet">
              {preview.done} of {preview.total}{" "}
              <button
                type="button"
                className="btn-bare"
                onClick={() => void call(`/api/v1/repair-previews/${preview.id}`, { method: "DELETE" })}
              >
                stop
              </button>
            </span>
          )}
        </h2>
        <div className="min-h-0 flex-1 overflow-auto p-3" data-testid="preview-all">
          {wrong && <p className="border-l-4 border-dead bg-loss px-3 py-2">{wrong}</p>}
          {preview?.why && <p className="mb-2">{preview.why}.</p>}
          <ul className="space-y-1">
            {outcomes.map((o) => (
              <li key={o.state + o.text} className="flex gap-2">
                <b className="w-10 text-right tabular-nums">{o.count}</b>
                <Mark state={o.state} />
                <span>
                  {o.state === "dead letter" ? "a dead letter again" : o.state}
                  {o.text && <span className="text-quiet">: {o.text}</span>}
                </span>
              </li>
            ))}
          </ul>
          {done && (preview?.made ?? 0) > 0 && (
            <p className="mt-2 text-quiet">
              {preview?.made} deliveries were made before and are not made again.{" "}
              <button type="button" className="btn-bare" onClick={() => setInsist(true)}>
                Make them again
              </button>
            </p>
          )}
          {insist && (
            <p className="mt-2 border-l-4 border-wait bg-change px-3 py-1">
              What was delivered before goes out once more, under the keys that it had.{" "}
              <button type="button" className="btn-bare" onClick={() => setInsist(false)}>
                Not that
              </button>
            </p>
          )}
        </div>
      </div>
      <form
        className="flex min-h-0 min-w-0 flex-col gap-2 overflow-auto p-3"
        onSubmit={(e) => {
          e.preventDefault();
          void begin();
        }}
      >
        <select
          aria-label="Version to resend under"
          className="field"
          value={under}
          onChange={(e) => setUnder(e.target.value)}
        >
          <option value="">the version that does best</option>
          <option value="own">their own version</option>
          <option value="live">the live version</option>
        </select>
        <div className="flex gap-2">
          <input
            aria-label="So many a second"
            className="field min-w-0 flex-1"
            type="number"
            min="0"
            placeholder="a second: all"
            value={pace}
            onChange={(e) => setPace(e.target.value)}
          />
          <select
            aria-label="Not before it answers"
            className="field min-w-0 flex-1"
            value={when}
            onChange={(e) => setWhen(e.target.value)}
          >
            <option value="">at once</option>
            {connections.data?.map((c) => (
              <option key={c.name} value={c.name}>
                when {c.name} answers
              </option>
            ))}
          </select>
        </div>
        <div className="flex gap-2">
          <label className="min-w-0 flex-1 text-[12.5px] text-quiet">
            not before
            <input
              aria-label="Not before"
              className="field"
              type="time"
              value={night}
              onChange={(e) => setNight(e.target.value)}
            />
          </label>
          <label className="min-w-0 flex-1 text-[12.5px] text-quiet">
            at most a night
            <input
              aria-label="At most so many a night"
              className="field"
              type="number"
              min="0"
              value={most}
              onChange={(e) => setMost(e.target.value)}
            />
          </label>
        </div>
        <input
          aria-label="Why"
          className="field"
          placeholder="why, for those who ask later"
          value={why}
          onChange={(e) => setWhy(e.target.value)}
        />
        <button type="submit" className="btn btn-go mt-auto" disabled={!done || !!wrong}>
          {done ? `Resend all ${p.total} under ${named}` : "Looking at what would happen…"}
        </button>
      </form>
    </section>
  );
}

/** The next time that a clock on the wall shows this, as an instant. */
function nextAt(time: string): string {
  const [h = 0, m = 0] = time.split(":").map(Number);
  const at = new Date();
  at.setHours(h, m, 0, 0);
  if (at.getTime() <= Date.now()) at.setDate(at.getDate() + 1);
  return at.toISOString();
}

/** How far the repairs are that go on. */
export const useRepairs = () =>
  useQuery({
    queryKey: ["dead-letters", "repairs"],
    queryFn: () => get<Schemas["Repair"][]>("/api/v1/repairs?limit=100"),
  });
