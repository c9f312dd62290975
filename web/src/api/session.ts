import { useQuery } from "@tanstack/react-query";
import { call, enc, get, type Schemas } from "./client";

export type Who = Schemas["Who"];
export type Right = Schemas["RightOfRole"];

/** Who is signed in, and what has to be done where nobody is. */
export const useSession = () =>
  useQuery({
    queryKey: ["session"],
    staleTime: 60_000,
    queryFn: () => get<Schemas["SessionNow"]>("/api/v1/session"),
  });

export const useWho = (): Who | null => useSession().data?.who ?? null;

/** The folder that flows are kept in step with, in which alone they are changed; empty for none. */
export const useFolder = (): string => useSession().data?.folder ?? "";

/** Whether whoever is signed in has a right to something; the server decides for each thing. */
export function useMay(): (right: Right, everywhere?: boolean) => boolean {
  const who = useWho();
  const folder = useFolder();
  return (right, everywhere) =>
    !(folder && right === "design") && (!who || (everywhere ? who.everywhere : who.rights).includes(right));
}

/** Says whether names are typed, as nobody signs in, or known. */
export function useKnown(): string {
  const who = useWho();
  return who && who.kind !== "visitor" ? who.title : "";
}

export const signIn = (name: string, password: string) => call<Who>("/api/v1/session", { body: { name, password } });
export const signOut = () => call("/api/v1/session", { method: "DELETE" });

export const usePeople = () =>
  useQuery({ queryKey: ["people"], queryFn: () => get<Schemas["Person"][]>("/api/v1/people") });
export const useSessions = () =>
  useQuery({ queryKey: ["sessions"], queryFn: () => get<Schemas["Session"][]>("/api/v1/sessions") });
export const useOutbound = () =>
  useQuery({ queryKey: ["outbound"], queryFn: () => get<Schemas["Outbound"]>("/api/v1/outbound") });

export const usePublishing = () =>
  useQuery({ queryKey: ["publishing"], queryFn: () => get<Schemas["Publishing"]>("/api/v1/publishing") });

export const person = (name: string) => `/api/v1/people/${enc(name)}`;

type Asked = { id: string; options: Record<string, unknown> };

/** Signs in by whatever passkey this device has for the host. */
export async function signInByPasskey() {
  const { value } = await call<Asked>("/api/v1/session/passkey", { method: "POST" });
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(value.options as never);
  const answer = (await navigator.credentials.get({ publicKey })) as PublicKeyCredential;
  return call<Who>("/api/v1/session/passkey/answer", { body: { id: value.id, answer: answer.toJSON() } });
}

/** Makes a passkey on this device for who is signed in. */
export async function makePasskey(title: string) {
  const { value } = await call<Asked>("/api/v1/passkeys", { method: "POST" });
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(value.options as never);
  const answer = (await navigator.credentials.create({ publicKey })) as PublicKeyCredential;
  await call("/api/v1/passkeys/answer", { body: { id: value.id, title, answer: answer.toJSON() } });
}

export type Passkey = { id: string; title: string; createdAt: string; usedAt: string | null };
export const usePasskeys = () =>
  useQuery({ queryKey: ["passkeys"], queryFn: () => get<Passkey[]>("/api/v1/passkeys") });
