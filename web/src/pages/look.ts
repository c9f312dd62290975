import { useEffect, useState } from "react";
import { call, get, type Schemas } from "../api/client";
import { says } from "../ui/parts";

type Preview = Schemas["RepairPreview"];

/**
 * Looks at what a decision about many would come to, anew whenever it changes, and stops looking when nobody wants to
 * know any more. Nothing is looked at while there is no decision.
 */
export function useLook(order: object | null): { preview: Preview | undefined; wrong: string } {
  const [preview, setPreview] = useState<Preview>();
  const [wrong, setWrong] = useState("");
  const body = order && JSON.stringify(order);
  useEffect(() => {
    setPreview(undefined);
    setWrong("");
    if (!body) return;
    let id = "";
    let gone = false;
    let timer: ReturnType<typeof setTimeout>;
    const look = async () => {
      try {
        const now = await get<Preview>(`/api/v1/repair-previews/${id}`);
        if (gone) return;
        setPreview(now);
        if (now.state === "running") timer = setTimeout(look, 300);
      } catch (e) {
        if (!gone) setWrong(says(e));
      }
    };
    timer = setTimeout(
      () =>
        call<Preview>("/api/v1/repair-previews", { body: JSON.parse(body) }).then(
          ({ value }) => {
            id = value.id;
            if (gone) void call(`/api/v1/repair-previews/${id}`, { method: "DELETE" });
            else void look();
          },
          (e) => gone || setWrong(says(e)),
        ),
      250,
    );
    return () => {
      gone = true;
      clearTimeout(timer);
      if (id) void call(`/api/v1/repair-previews/${id}`, { method: "DELETE" }).catch(() => {});
    };
  }, [body]);
  return { preview, wrong };
}
