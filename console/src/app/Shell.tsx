import { lazy, type ReactNode, Suspense } from "react";
import { Navigate, NavLink, Route, Routes, useLocation, useMatch } from "react-router";
import { SideBySide } from "../beside/SideBySide";
import { useNotices } from "../notices/useNotices";
import { ReportsPage } from "../order/ReportsPage";
import { SettingsPage } from "../order/SettingsPage";
import { SearchPage } from "../search/SearchPage";
import { AuditPage } from "../watching/AuditPage";
import { ConnectionsPage } from "../watching/ConnectionsPage";
import { WebhooksPage } from "../watching/WebhooksPage";
import { WirePage } from "../wire/WirePage";
import { Boundary } from "./Boundary";
import { ConversationList } from "./ConversationList";
import { ConversationPage } from "./ConversationPage";
import { Finder } from "./Finder";
import { InvitedPage } from "./InvitedPage";
import { recallConversation } from "./reading";
import { StatusStrip } from "./StatusStrip";
import { useSeat } from "./seatContext";
import { Button } from "./ui";
import { useObservable } from "./useObservable";

// By themselves, as they bring the charts.
const RetentionPage = lazy(() => import("../retention/RetentionPage"));

const UsagePage = lazy(() => import("../watching/UsagePage"));

const PLACES: [string, string][] = [
  ["/", "Conversations"],
  ["/search", "Search"],
  ["/side-by-side", "Side by side"],
  ["/wire", "Wire"],
  ["/retention", "Retention"],
  ["/reports", "Reports"],
];
/** For a trusted backend. */
const WATCHING: [string, string][] = [
  ["/usage", "Usage"],
  ["/connections", "Connections"],
  ["/webhooks", "Webhooks"],
  ["/audit", "Audit"],
];

/** The frame: places, what is shown of one, status strip. */
export function Shell() {
  const { seat } = useSeat();
  const { pathname } = useLocation();
  useNotices(seat, useObservable(seat.line).state === "live");
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)] grid-rows-[auto_1fr_auto]">
      <header className="flex items-center gap-4 border-b border-line bg-shoal px-3 text-xs">
        <h1 className="sr-only">Nestrel console</h1>
        <nav aria-label="Places" className="flex min-w-0 gap-4 overflow-x-auto whitespace-nowrap">
          {[...PLACES, ...(seat.trusted ? WATCHING : [])].map(([to, name]) => (
            <NavLink key={to} to={to} className={() => placeLook(to)}>
              {name}
            </NavLink>
          ))}
        </nav>
      </header>
      <Boundary of={pathname} instead={faulty}>
        <Routes>
          <Route path="/side-by-side/:id?" element={<SideBySide />} />
          <Route path="/invited/:token" element={<InvitedPage />} />
          <Route path="/search" element={<SearchPage />} />
          <Route path="/wire" element={<WirePage />} />
          <Route path="/reports" element={<ReportsPage />} />
          <Route path="/settings/:id" element={<SettingsPage />} />
          <Route path="/connections" element={<ConnectionsPage />} />
          <Route path="/webhooks" element={<WebhooksPage />} />
          <Route path="/audit" element={<AuditPage />} />
          <Route path="/usage" element={<Later page={<UsagePage />} />} />
          <Route path="/retention/:id?" element={<Later page={<RetentionPage />} />} />
          <Route path="*" element={<Conversations />} />
        </Routes>
      </Boundary>
      <StatusStrip />
      <Finder />
    </div>
  );
}

/** In the place of one that could not be drawn: the others are still there. */
function faulty(error: Error, again: () => void) {
  return (
    <main className="p-6">
      <p role="alert" className="text-buoy">
        This place cannot be shown: {error.message}
      </p>
      <p className="mt-2 flex items-baseline gap-4">
        <Button onClick={again}>Try again</Button>
        <Button onClick={() => window.location.reload()}>Load the console anew</Button>
      </p>
    </main>
  );
}

/** A page that comes by itself, as it brings the charts. */
function Later({ page }: { page: ReactNode }) {
  return (
    <Suspense
      fallback={
        <main aria-busy className="p-4 text-faint">
          reading
        </main>
      }
    >
      {page}
    </Suspense>
  );
}

function placeLook(to: string): string {
  const path = window.location.pathname.replace("/console", "") || "/";
  const here = to === "/" ? path === "/" || path.startsWith("/c/") : path.startsWith(to);
  return `border-b-2 py-1 ${here ? "border-ink font-semibold" : "border-transparent text-faint hover:text-ink"}`;
}

/** The list and one conversation; on a narrow screen they take turns. */
function Conversations() {
  const inConversation = useMatch("/c/:id") !== null;
  const { pathname } = useLocation();
  return (
    <div className="grid min-h-0 grid-cols-1 md:grid-cols-[320px_1fr]">
      <div className={`min-h-0 border-r border-line ${inConversation ? "hidden md:block" : ""}`}>
        <Boundary of={null} instead={faulty}>
          <ConversationList />
        </Boundary>
      </div>
      <div className={`min-h-0 min-w-0 ${inConversation ? "" : "hidden md:block"}`}>
        <Boundary of={pathname} instead={faulty}>
          <Routes>
            <Route path="/c/:id" element={<ConversationPage />} />
            <Route path="*" element={<Start />} />
          </Routes>
        </Boundary>
      </div>
    </div>
  );
}

function Start() {
  const { seat } = useSeat();
  const last = recallConversation(seat.userId);
  if (last && window.matchMedia("(min-width: 768px)").matches) return <Navigate to={`/c/${last}`} replace />;
  return (
    <main className="grid h-full place-items-center p-8 text-faint">
      <p>Choose a conversation, or make one.</p>
    </main>
  );
}
