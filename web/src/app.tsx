import { lazy, Suspense, useEffect, useState } from "react";
import { Navigate, NavLink, Route, Routes, useLocation } from "react-router";
import { Toaster, toast } from "sonner";
import { useCauses, useLive } from "./api/queries";
import { useSession } from "./api/session";
import { Find } from "./find";
import { Menu } from "./menu";
import { AlarmsPage } from "./pages/alarms";
import { DeadLettersPage } from "./pages/dead-letters";
import { FlowsPage } from "./pages/flows";
import { LogPage } from "./pages/log";
import { PartitionsAway } from "./pages/partitions-away";
import { ClosedLettersPage, RepairPage, RepairsPage } from "./pages/repairs";
import { NobodyYetPage, SignInPage, WelcomePage } from "./pages/sign-in";
import { Tour } from "./pages/tour";
import { TransactionsPage } from "./pages/transactions";
import { keysOf, throughList, typing } from "./ui/keys";
import { Dialog } from "./ui/parts";
import { type Look, useLook } from "./ui/theme";

const FlowPage = lazy(() => import("./pages/flow"));
const ProofPage = lazy(() => import("./pages/proof"));
const TransactionPage = lazy(() => import("./pages/transaction"));
const QueuesPage = lazy(() => import("./pages/queues"));
const ConnectionsPage = lazy(() => import("./pages/connections"));
const TablesPage = lazy(() => import("./pages/tables"));
const StandInsPage = lazy(() => import("./pages/stand-ins"));
const HelpPage = lazy(() => import("./pages/help"));
const HelpOfPage = lazy(() => import("./pages/help-of"));
const CallersPage = lazy(() => import("./pages/callers"));
const JourneyPage = lazy(() => import("./pages/journey"));
const BesidePage = lazy(() => import("./pages/beside"));
const DrillPage = lazy(() => import("./pages/drill"));
const PaperPage = lazy(() => import("./pages/paper"));
const MePage = lazy(() => import("./pages/me"));
const PeoplePage = lazy(() => import("./pages/people"));
const KeysPage = lazy(() => import("./pages/keys"));
const AuditPage = lazy(() => import("./pages/audit"));
const FleetPage = lazy(() => import("./pages/fleet"));
const SettingsPage = lazy(() => import("./pages/settings"));

const pages = [
  ["/flows", "Flows"],
  ["/transactions", "Transactions"],
  ["/dead-letters", "Dead letters"],
  ["/queues", "Queues"],
  ["/connections", "Connections"],
  ["/tables", "Tables"],
  ["/stand-ins", "Stand-ins"],
  ["/help", "Help"],
] as const;

/** The application for who is in, and the way in for who is not. */
export function App() {
  const session = useSession();
  const { pathname } = useLocation();
  if (pathname === "/welcome") return <WelcomePage />;
  if (session.data?.needs === "sign-in") return <SignInPage openId={session.data.openId} />;
  if (session.data?.needs === "first-owner") return <NobodyYetPage />;
  if (!session.data && !session.error) return null;
  return <Inside />;
}

/** Tells who has just signed in that their way to do so was changed since the time before: it may not have been they. */
function useTold() {
  const who = useSession().data?.who;
  useEffect(() => {
    const key = `told ${who?.session}`;
    if (!who?.changed || sessionStorage.getItem(key)) return;
    sessionStorage.setItem(key, "yes");
    toast.warning(
      `Your password or passkeys were changed on ${new Date(who.changed).toLocaleString()}. If that was not you, tell an owner.`,
      { duration: 20_000, closeButton: true },
    );
  }, [who]);
}

function Inside() {
  useLive();
  useTold();
  const causes = useCauses();
  const [find, setFind] = useState(false);
  const [keys, setKeys] = useState(false);
  const [look, setLook] = useLook();
  const { pathname } = useLocation();
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      if (typing(e) || e.ctrlKey || e.metaKey || e.altKey) return;
      if (e.key === "/") {
        e.preventDefault();
        setFind(true);
      } else if (e.key === "?") setKeys(true);
      else throughList(e);
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);
  const dead = causes.data?.reduce((n, c) => n + c.count, 0) ?? 0;
  return (
    <div className="flex h-full flex-col">
      <nav
        className="flex min-h-11 shrink-0 flex-wrap items-center gap-1 bg-band px-4 text-[#dbe6e4]"
        aria-label="Pages"
      >
        <svg width="24" height="16" viewBox="0 0 24 16" className="mr-2" aria-hidden="true">
          <path d="M4 7 7 2h8v2h3v3z" fill="#f08a5a" />
          <path d="M0 8h24l-3 6H4z" fill="#fff" />
        </svg>
        <span className="mr-4 max-[1120px]:mr-1 text-[15px] font-bold text-white">Ready Ferry</span>
        {pages.map(([to, title]) => (
          <NavLink
            key={to}
            to={to}
            className={({ isActive }) =>
              `rounded-[3px] px-2.5 py-1 ${isActive ? "bg-[#f5f3ec] font-bold text-[#1b2a30]" : "hover:text-white"}`
            }
          >
            {title}
            {to === "/dead-letters" && dead > 0 && (
              <b className="ml-1.5 text-[#f39a6f] [[aria-current=page]_&]:text-[#7e2440]">{dead}</b>
            )}
          </NavLink>
        ))}
        <span className="flex-1" />
        <button type="button" className="hover:text-white" onClick={() => setFind(true)}>
          Find <span className="max-[1120px]:sr-only">anything </span>
          <kbd>/</kbd>
        </button>
        <select
          aria-label="Look"
          title="Light, dark, or as the system has it"
          className="ml-3 w-[5.5rem] rounded-[3px] bg-transparent py-0.5 hover:text-white [&>option]:text-[#1b2a30]"
          value={look}
          onChange={(e) => setLook(e.target.value as Look)}
        >
          <option value="system">as system</option>
          <option value="light">light</option>
          <option value="dark">dark</option>
        </select>
        <button type="button" className="ml-3 hover:text-white" onClick={() => setKeys(true)}>
          <span className="max-[1120px]:sr-only">Keys </span>
          <kbd>?</kbd>
        </button>
        <Menu />
      </nav>
      <Open />
      <PartitionsAway />
      <main className="flex min-h-0 flex-1 flex-col">
        <Suspense fallback={<p className="p-6 text-quiet">Loading…</p>}>
          <Routes>
            <Route path="/" element={<Navigate to="/flows" replace />} />
            <Route path="/flows" element={<FlowsPage />} />
            <Route path="/flows/:name" element={<FlowPage />} />
            <Route path="/flows/:name/publish" element={<ProofPage />} />
            <Route path="/flows/:name/callers" element={<CallersPage />} />
            <Route path="/flows/:name/drill" element={<DrillPage />} />
            <Route path="/flows/:name/paper" element={<PaperPage />} />
            <Route path="/log" element={<LogPage />} />
            <Route path="/alarms" element={<AlarmsPage />} />
            <Route path="/transactions" element={<TransactionsPage />} />
            <Route path="/transactions/beside" element={<BesidePage />} />
            <Route path="/transactions/:id" element={<TransactionPage />} />
            <Route path="/journeys/:id" element={<JourneyPage />} />
            <Route path="/dead-letters" element={<DeadLettersPage />} />
            <Route path="/dead-letters/repairs" element={<RepairsPage />} />
            <Route path="/dead-letters/repairs/:id" element={<RepairPage />} />
            <Route path="/dead-letters/closed" element={<ClosedLettersPage />} />
            <Route path="/queues" element={<QueuesPage />} />
            <Route path="/connections" element={<ConnectionsPage />} />
            <Route path="/tables" element={<TablesPage />} />
            <Route path="/stand-ins" element={<StandInsPage />} />
            <Route path="/me" element={<MePage />} />
            <Route path="/people" element={<PeoplePage />} />
            <Route path="/keys" element={<KeysPage />} />
            <Route path="/audit" element={<AuditPage />} />
            <Route path="/fleet" element={<FleetPage />} />
            <Route path="/settings" element={<SettingsPage />} />
            <Route path="/sign-in" element={<Navigate to="/flows" replace />} />
            <Route path="/help" element={<HelpPage />} />
            <Route path="/help/:what/:name" element={<HelpOfPage />} />
            <Route
              path="*"
              element={<p className="p-6">There is no such page. The band above leads to all there are.</p>}
            />
          </Routes>
        </Suspense>
      </main>
      <Tour />
      <Find open={find} onClose={() => setFind(false)} />
      <Dialog open={keys} onClose={() => setKeys(false)} title="Keys">
        <dl className="grid grid-cols-[150px_1fr] gap-x-4 gap-y-1.5">
          {keysOf(pathname).map(([k, t]) => (
            <div key={k} className="contents">
              <dt>
                <kbd>{k}</kbd>
              </dt>
              <dd>{t}</dd>
            </div>
          ))}
        </dl>
      </Dialog>
      <Toaster
        position="bottom-right"
        toastOptions={{
          unstyled: true,
          duration: 5000,
          classNames: {
            toast: "notice",
            error: "notice-error",
            success: "notice-done",
            actionButton: "btn-bare ml-auto shrink-0",
          },
        }}
        icons={{ success: null, error: null }}
      />
    </div>
  );
}

/** Says on every page that nobody has to sign in. */
function Open() {
  const session = useSession();
  const who = session.data?.who;
  if (who?.kind !== "visitor") return null;
  const demo = (session.data?.demo.length ?? 0) > 0;
  return (
    <p className="shrink-0 border-b border-line bg-sheet px-4 py-0.5 text-[12.5px] text-quiet">
      {demo
        ? "The demo lets in whoever is at this machine"
        : "Nobody signs in: whoever is at this machine may do everything"}
      {demo && who.name !== "visitor" ? `; you look at it as ${who.title}` : ""}.
    </p>
  );
}
