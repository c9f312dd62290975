import { ColumnsSetting, CSVSettings, errorAt, type FormProps, withSetting } from "../kit";
import { bySchema, SchemaSetting } from "../schema-setting";
import { shapeWords } from "./shape";

const formats = ["json", "xml", "csv", "hl7", "form", "multipart", "jsonl", "fixed", "avro", "protobuf"];

type Props = FormProps & {
  within?: boolean;
  as: string;
  /** What is searched for; undefined: there is nothing to search. */
  find?: string;
  onFind: (find: string) => void;
  /** Takes the first line that was found. */
  onFound: () => void;
  /** How many lines are required and have no source. */
  unset: number;
  error: Error | null;
  onShape: () => void;
  onLike?: () => void;
};

/** What stands above the lines of a target: its format and shape, and how a line of it is found. */
export function Bar(p: Props) {
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1 px-3 py-1.5 text-[12.5px]">
        <select
          aria-label="Format"
          className="field !w-auto"
          value={p.as}
          onChange={(e) => p.change(withSetting(p.step, "as", e.target.value), "")}
        >
          {formats.map((f) => (
            <option key={f} value={f}>
              {f.toUpperCase()}
            </option>
          ))}
        </select>
        {!p.within && (
          <button type="button" className="btn" onClick={p.onShape}>
            {shapeWords(p.step) || "What it looks like…"}
          </button>
        )}
        {p.step.start !== "example" && !p.within && p.as !== "csv" && (
          <label className="flex items-center gap-1">
            <input
              type="checkbox"
              checked={p.step.start === "body"}
              onChange={(e) => p.change(withSetting(p.step, "start", e.target.checked ? "body" : undefined), "")}
            />
            changes the present body
          </label>
        )}
        {p.find !== undefined && (
          <input
            aria-label="Find a line"
            className="field !w-40"
            placeholder="name or value"
            value={p.find}
            onChange={(e) => p.onFind(e.target.value)}
            onKeyDown={(e) => e.key === "Enter" && p.onFound()}
          />
        )}
        {p.onLike && (
          <button type="button" className="btn-bare" onClick={p.onLike}>
            take by like names…
          </button>
        )}
        {p.unset > 0 && (
          <span className="text-dead">
            {p.unset} required {p.unset === 1 ? "line" : "lines"} without a source
          </span>
        )}
        {(errorAt(p, "target") ?? errorAt(p, "example") ?? errorAt(p, "start")) && (
          <span role="alert" className="text-dead">
            {errorAt(p, "target") ?? errorAt(p, "example") ?? errorAt(p, "start")}
          </span>
        )}
        {p.error && <span className="text-dead">{p.error.message}</span>}
      </div>
      {p.as === "fixed" && (
        <div className="px-3">
          <ColumnsSetting {...p} />
        </div>
      )}
      {bySchema(p.as) && (
        <div className="px-3">
          <SchemaSetting {...p} format={p.as} />
        </div>
      )}
      {p.as === "csv" && (
        <div className="px-3">
          <CSVSettings {...p} compact header="with a row of the columns' names" />
        </div>
      )}
    </>
  );
}
