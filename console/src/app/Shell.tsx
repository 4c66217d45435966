import { Navigate, Route, Routes, useMatch } from "react-router";
import { ConversationList } from "./ConversationList";
import { ConversationPage } from "./ConversationPage";
import { recallConversation } from "./place";
import { StatusStrip } from "./StatusStrip";
import { useSeat } from "./seatContext";

/** The frame: list, place, status strip. On a narrow screen the list and the place take turns. */
export function Shell() {
  const inConversation = useMatch("/c/:id") !== null;
  return (
    <div className="grid h-full grid-rows-[1fr_auto]">
      <header className="sr-only">
        <h1>Nestrel console</h1>
      </header>
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
      <StatusStrip />
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
