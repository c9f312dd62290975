import { DropdownMenu } from "radix-ui";
import { useNavigate } from "react-router";
import { enc, type Flow, type Schemas } from "../api/client";
import { useFolder, useMay } from "../api/session";
import type { FlowDocument } from "../model/model";
import { PageHead, says } from "../ui/parts";
import type { Followed } from "./draft";

const item = "cursor-pointer px-3 py-1 outline-none data-[highlighted]:bg-mark";

/** The kind of step about which help is likeliest wanted: that of the first. */
const helpOf = (doc: FlowDocument) => doc?.steps?.[0]?.kind ?? "map";

/** The line above a sheet: how the flow is, and what can be done with it as a whole. */
export function FlowHead(p: {
  flow: Flow;
  doc: FlowDocument;
  title: string;
  edits: number;
  others: string[];
  asked?: Schemas["Asked"];
  notSaved: unknown;
  columns: Followed[];
  errors: number;
  history: { undo: () => void; redo: () => void; canUndo: boolean; canRedo: boolean };
  asYAML: boolean;
  onYAML: () => void;
  onVersions: () => void;
  onFiles: () => void;
  onLoad: () => void;
  onPause: () => void;
  onPublish: () => void;
}) {
  const go = useNavigate();
  const may = useMay();
  const folder = useFolder();
  const differs = p.columns.filter((r) => r.expected === "differs").length;
  const expected = p.columns.filter((r) => r.expected !== "none").length;
  const status = p.flow.live
    ? `${p.edits ? `draft, ${p.edits} ${p.edits === 1 ? "edit" : "edits"} since version ${p.flow.live}` : `live: version ${p.flow.live}`}${p.flow.paused ? ", paused" : ""}`
    : "draft, never published; messages that come in are kept as samples";
  return (
    <PageHead
      title={p.title}
      facts={
        <span data-testid="flow-status">
          {status}
          {p.others.length > 0 && <span data-testid="others"> · also here: {p.others.join(", ")}</span>}
          {p.asked && ` · ${p.asked.by} asks a second person to publish it`}
          {folder
            ? ` · kept in the folder ${folder}, and changed there`
            : !may("design") && " · you may look at it, and not change it"}
          {p.notSaved !== undefined && <b className="text-dead"> · not saved: {says(p.notSaved)}</b>}
        </span>
      }
    >
      <span className="text-quiet">
        {differs ? (
          <b className="text-dead">{differs} not as expected</b>
        ) : (
          expected > 0 && `All ${expected} as expected`
        )}
        {p.errors > 0 && (
          <b className="ml-2 text-dead">
            {p.errors} {p.errors === 1 ? "error" : "errors"}
          </b>
        )}
      </span>
      <button
        type="button"
        className="btn"
        aria-label="Undo"
        title="Undo (Ctrl Z)"
        disabled={!p.history.canUndo}
        onClick={p.history.undo}
      >
        ↶
      </button>
      <button
        type="button"
        className="btn"
        aria-label="Redo"
        title="Redo (Ctrl Y)"
        disabled={!p.history.canRedo}
        onClick={p.history.redo}
      >
        ↷
      </button>
      <button type="button" className="btn" aria-pressed={p.asYAML} onClick={p.onYAML}>
        {p.asYAML ? "As a sheet" : "As YAML"}
      </button>
      <button type="button" className="btn" onClick={p.onVersions}>
        Versions
      </button>
      <button type="button" className="btn" onClick={p.onFiles}>
        Files
      </button>
      <DropdownMenu.Root modal={false}>
        <DropdownMenu.Trigger className="btn">More</DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content align="end" className="z-40 border border-line bg-sheet py-1">
            <DropdownMenu.Item className={item} onSelect={() => go(`/flows/${enc(p.flow.name)}/callers`)}>
              For callers: address, keys, requests, OpenAPI
            </DropdownMenu.Item>
            <DropdownMenu.Item className={item} onSelect={() => go(`/flows/${enc(p.flow.name)}/paper`)}>
              On paper: every step with its comments
            </DropdownMenu.Item>
            <DropdownMenu.Item className={item} onSelect={() => go(`/flows/${enc(p.flow.name)}/drill`)}>
              Outage drill: what a target that is out comes to
            </DropdownMenu.Item>
            <DropdownMenu.Item className={item} onSelect={() => go(`/help/step/${helpOf(p.doc)}`)}>
              Help about steps
            </DropdownMenu.Item>
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      {p.flow.live > 0 && p.doc?.intake.kind === "load" && (
        <button type="button" className="btn" onClick={p.onLoad}>
          Load in bulk
        </button>
      )}
      <button type="button" className="btn" onClick={() => go(`/transactions?flow=${p.flow.name}`)}>
        Transactions
      </button>
      {p.flow.live > 0 && may("operate") && (
        <button type="button" className="btn" onClick={p.onPause}>
          {p.flow.paused ? "Resume" : "Pause"}
        </button>
      )}
      {may("publish") && (!folder || p.asked) && (
        <button type="button" className="btn btn-go" onClick={p.onPublish}>
          Publish {p.flow.live ? "a new version" : "version 1"}
        </button>
      )}
    </PageHead>
  );
}
