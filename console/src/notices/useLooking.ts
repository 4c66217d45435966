import { useEffect } from "react";
import type { Seat } from "../sync/seat";

/** It counts for a minute. */
const AGAIN_MS = 25_000;

/** Say what is being looked at, for as long as it is: of that nobody needs a notice. */
export function useLooking(seat: Seat, conversation: string, live: boolean): void {
  useEffect(() => {
    if (!live) return;
    let at: string | null = null;
    const say = (next: string | null) => {
      if (next === null && at === null) return;
      at = next;
      // Of no use where the line is away: then the notice comes.
      seat.line.command({ type: "looking", conversation_id: next }).catch(() => undefined);
    };
    const look = () =>
      say(document.visibilityState === "visible" && document.hasFocus() ? conversation : null);
    look();
    const timer = setInterval(look, AGAIN_MS);
    document.addEventListener("visibilitychange", look);
    window.addEventListener("focus", look);
    window.addEventListener("blur", look);
    return () => {
      clearInterval(timer);
      document.removeEventListener("visibilitychange", look);
      window.removeEventListener("focus", look);
      window.removeEventListener("blur", look);
      say(null);
    };
  }, [seat, conversation, live]);
}
