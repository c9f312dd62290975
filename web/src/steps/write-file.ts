import { createContext } from "react";

/** Writes a file of the flow whose sheet is shown, after its draft is saved; null where there is no sheet. */
export const WriteFile = createContext<((file: string, text: string) => Promise<void>) | null>(null);
