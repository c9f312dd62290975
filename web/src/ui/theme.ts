import { useState } from "react";

/** How the application looks: as the system does, or as was chosen here. */
export type Look = "system" | "light" | "dark";

const isLook = (v: string | null): v is Look => v === "light" || v === "dark" || v === "system";

/** The look that this browser keeps. */
export function keptLook(): Look {
  const kept = localStorage.getItem("look");
  return isLook(kept) ? kept : "system";
}

/** Puts a look on the page, before anything is drawn and whenever it is chosen. */
export function wear(look: Look): void {
  const root = document.documentElement;
  if (look === "system") delete root.dataset.look;
  else root.dataset.look = look;
}

export function useLook(): [Look, (l: Look) => void] {
  const [look, setLook] = useState(keptLook);
  return [
    look,
    (l) => {
      setLook(l);
      localStorage.setItem("look", l);
      wear(l);
    },
  ];
}
