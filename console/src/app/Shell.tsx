import { lazy, type ReactNode, Suspense } from "react";
import { Navigate, NavLink, Route, Routes, useMatch } from "react-router";
import { SideBySide } from "../beside/SideBySide";
import { useNotices } from "../notices/useNotices";
import { ReportsPage } from "../order/ReportsPage";
import { SettingsPage } from "../order/SettingsPage";
import { SearchPage } from "../search/SearchPage";
import { AuditPage } from "../watching/AuditPage";
import { ConnectionsPage } from "../watching/ConnectionsPage";
import { WebhooksPage } from "../watching/WebhooksPage";
import { WirePage } from "../wire/WirePage";
import { ConversationList } from "./ConversationList";
import { ConversationPage } from "./ConversationPage";
import { Finder } from "./Finder";
import { InvitedPage } from "./InvitedPage";
import { recallConversation } from "./reading";
import { StatusStrip } from "./StatusStrip";
import { useSeat } from "./seatContext";
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
      <StatusStrip />
      <Finder />
    </div>
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
  return (
    <div className="grid min-h-0 grid-cols-1 md:grid-cols-[320px_1fr]">
      <div className={`min-h-0 border-r border-line ${inConversation ? "hidden md:block" : ""}`}>
        <ConversationList />
      </div>
      <div className={`min-h-0 min-w-0 ${inConversation ? "" : "hidden md:block"}`}>
        <Routes>
          <Route path="/c/:id" element={<ConversationPage />} />
          <Route path="*" element={<Start />} />
        </Routes>
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
