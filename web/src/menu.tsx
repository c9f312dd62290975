import { DropdownMenu } from "radix-ui";
import { Link } from "react-router";
import { call } from "./api/client";
import { type Right, signOut, useSession } from "./api/session";

const places: [string, string, Right | null][] = [
  ["/me", "You", null],
  ["/people", "People", "own"],
  ["/keys", "Keys", "own"],
  ["/audit", "Audit", "own"],
  ["/fleet", "Fleet", "see"],
  ["/settings", "Settings", "own"],
];

const item = "block cursor-pointer px-3 py-1 outline-none data-[highlighted]:bg-mark";

/** The one menu at the right end of the band, named after the person who is signed in. */
export function Menu() {
  const session = useSession();
  const who = session.data?.who;
  if (!who) return null;
  const lookAs = async (name: string) => {
    await call("/api/v1/demo/visitor", { body: { name } });
    window.location.reload();
  };
  const leave = async () => {
    await signOut();
    const look = localStorage.getItem("look"); // is the machine's; all else was of who leaves
    localStorage.clear();
    sessionStorage.clear();
    if (look) localStorage.setItem("look", look);
    window.location.assign("/flows");
  };
  const demo = session.data?.demo ?? [];
  const fleet = session.data?.fleet ?? "";
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="ml-3 max-w-44 truncate rounded-[3px] px-1.5 py-0.5 font-bold hover:text-white">
        {who.title}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" className="z-50 min-w-52 border border-line bg-sheet py-1">
          {places
            .filter(([to, , right]) => (right === null || who.everywhere.includes(right)) && (to !== "/fleet" || fleet))
            .map(([to, title]) => (
              <DropdownMenu.Item key={to} asChild className={item}>
                <Link to={to}>{title}</Link>
              </DropdownMenu.Item>
            ))}
          {demo.length > 0 && (
            <>
              <DropdownMenu.Label className="menu-label">Look at the demo as</DropdownMenu.Label>
              {demo.map((d) => (
                <DropdownMenu.Item key={d.name} className={item} onSelect={() => lookAs(d.name)}>
                  {d.title}
                  {d.name === who.name && " (now)"}
                </DropdownMenu.Item>
              ))}
            </>
          )}
          {who.kind === "person" && (
            <DropdownMenu.Item className={item} onSelect={leave}>
              Sign out
            </DropdownMenu.Item>
          )}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
