import type { ConversationCopy } from "../sync/conversationCopy";
import type { Seat } from "../sync/seat";
import { useObservable } from "./useObservable";

const NAMED = 3;

/** Who else is writing here; a line that is always there, so that nothing moves when somebody begins. */
export function Writing({ copy, seat }: { copy: ConversationCopy; seat: Seat }) {
  useObservable(seat.writers);
  const who = seat.writers.in(copy.id).map((userId) => copy.nameOf(userId));
  return (
    <p role="status" aria-label="writing" className="h-5 truncate px-3 text-xs leading-5 text-faint">
      {said(who)}
    </p>
  );
}

function said(who: string[]): string {
  if (who.length === 0) return "";
  if (who.length === 1) return `${who[0]} is writing`;
  if (who.length > NAMED) return `${who.length} people are writing`;
  return `${who.slice(0, -1).join(", ")} and ${who.at(-1)} are writing`;
}
