import type { Schemas } from "../api/client";

export type Grant = Schemas["Grant"];

/** The roles, with what each may. */
export const roles: [Grant["role"], string][] = [
  ["reader", "sees flows, and transactions without bodies"],
  ["operator", "bodies, resend, repair, discard, pause, try now, move, purge"],
  ["designer", "drafts, samples, rehearsals, stand-ins"],
  ["publisher", "publishes; connections, secrets, tables"],
  ["owner", "people, keys, roles, settings, audit"],
  ["unmask", "sees the values of masked fields"],
];

export const grantText = (g: Grant) => `${g.role}${g.area === "*" ? " everywhere" : ` in ${g.area}`}`;
