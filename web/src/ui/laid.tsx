import type { Schemas } from "../api/client";
import { type Looks, Pick, under, underlined } from "./pick";
import { pathOf, rooted } from "./tree";

const kindOf: Record<string, string> = {
  name: "font-semibold text-deep",
  attribute: "text-wait",
  comment: "text-quiet italic",
  mark: "text-quiet",
  value: "",
};

/** XML and HL7 as the server laid them out. */
export function Laid({
  lines,
  used,
  lit,
  changed,
  onPick,
  onHover,
  picked,
  mapped,
  root,
}: Looks & { lines: Schemas["Line"][] }) {
  return (
    <div className="data py-2" onMouseLeave={() => onHover?.(null)} data-testid="laid">
      {lines.map((l, i) => {
        const here = l.tokens.flatMap((t) => t.pointer ?? t.expression ?? []);
        return (
          <div
            key={i}
            className={`flex border-l-[3px] ${here.some((p) => under(p, changed)) ? "border-buoy bg-change" : "border-transparent"} ${here.some((p) => under(p, lit)) ? "!bg-mark" : ""}`}
          >
            <span className="w-11 shrink-0 whitespace-nowrap pr-3 text-right text-[11.5px] text-quiet select-none">
              {i + 1}
            </span>
            <span className="min-w-0 whitespace-pre-wrap break-all" style={{ paddingLeft: l.indent * 14 }}>
              {l.tokens.map((t, j) => {
                const expression = t.expression
                  ? rooted(t.expression, root)
                  : t.pointer
                    ? pathOf(t.pointer, root)
                    : undefined;
                const code = /"([^"]+)"\)$/.exec(t.expression ?? "")?.[1];
                const place = [code, t.title, t.meaning].filter(Boolean).join(" · ") || undefined;
                const look = `${kindOf[t.kind] ?? ""} ${t.kind === "value" && used?.includes(t.pointer ?? t.expression ?? "-") ? underlined : ""}`;
                if ((t.kind !== "value" && t.kind !== "name") || !expression || !onPick)
                  return (
                    <span
                      key={j}
                      className={look}
                      title={place}
                      onMouseEnter={() => onHover?.(t.pointer ?? t.expression ?? null)}
                    >
                      {t.text}
                    </span>
                  );
                return (
                  <Pick
                    key={j}
                    path={expression}
                    className={`${look} ${t.kind === "value" && mapped?.includes(expression) ? underlined : ""}`}
                    title={place ?? "Use this value"}
                    picked={picked}
                    onPick={onPick}
                    onMouseEnter={() => onHover?.(t.pointer ?? t.expression ?? null)}
                  >
                    {t.text}
                  </Pick>
                );
              })}
            </span>
          </div>
        );
      })}
    </div>
  );
}

/** The fields of HL7 with what they are called, a field a line. */
export function Named({
  lines,
  used,
  lit,
  onPick,
  onHover,
  picked,
  mapped,
  root,
}: Looks & { lines: Schemas["Line"][] }) {
  return (
    <div className="py-1.5" data-testid="named" onMouseLeave={() => onHover?.(null)}>
      {lines.map((l, i) => {
        const [head, ...rest] = l.tokens;
        const values = rest.filter((t) => t.kind === "value" && t.expression && !/MSH-[12]"/.test(t.expression));
        const path = rooted(head?.expression ?? "", root);
        return (
          <div key={i}>
            <div className="px-3">
              {onPick && path ? (
                <Pick
                  path={path}
                  className="data font-semibold text-deep"
                  title="Use this segment"
                  picked={picked}
                  onPick={onPick}
                >
                  {head?.text}
                </Pick>
              ) : (
                <span className="data font-semibold text-deep">{head?.text}</span>
              )}{" "}
              <span className="text-quiet">{head?.title}</span>
            </div>
            {values.map((t, j) => {
              const own = t.expression ?? "";
              const expression = rooted(own, root);
              const place = /-([^"]+)"\)$/.exec(expression)?.[1] ?? "";
              const mark = used?.includes(own) || mapped?.includes(expression) ? underlined : "";
              return (
                <div
                  key={j}
                  className={`flex gap-2 pl-7 pr-3 ${lit?.includes(own) ? "bg-mark" : ""}`}
                  onMouseEnter={() => onHover?.(own)}
                >
                  <span className="data w-14 shrink-0 text-quiet">{place}</span>
                  <span className="w-44 shrink-0 truncate text-quiet" title={t.title}>
                    {place.includes(".") ? (t.title?.split(", ").slice(1).join(", ") ?? t.title) : t.title}
                  </span>
                  {onPick ? (
                    <Pick
                      path={expression}
                      className={`data break-all ${mark}`}
                      title={t.meaning ?? "Use this value"}
                      picked={picked}
                      onPick={onPick}
                    >
                      {t.text}
                    </Pick>
                  ) : (
                    <span className={`data break-all ${mark}`} title={t.meaning}>
                      {t.text}
                    </span>
                  )}
                </div>
              );
            })}
          </div>
        );
      })}
    </div>
  );
}
