import { useEffect, useMemo, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { recallConversation } from "../app/reading";
import { useSeat } from "../app/seatContext";
import type { Second } from "../app/signIn";
import { field } from "../app/ui";
import { useObservable } from "../app/useObservable";
import { useOpenedSeat } from "../app/useOpenedSeat";
import { titleOf } from "../lib/format";
import type { ConversationCopy } from "../sync/conversationCopy";
import type { Seat } from "../sync/seat";
import { SeatFoot, SeatHead } from "./SeatEnds";
import { SecondSignIn } from "./SecondSignIn";
import { SHOWN, Spine } from "./Spine";

/** Two members on one conversation, each with a line and a replica of its own: cut one, post from the other, restore
 * it, and watch it come back. */
export function SideBySide() {
  const { seat, signIn } = useSeat();
  const [second, setSecond] = useState<Second | null>(null);
  const beside = useOpenedSeat(second);
  useObservable(seat);

  useEffect(() => {
    void signIn.second().then(setSecond);
  }, [signIn]);

  if (!second || !beside.seat)
    return (
      <main className="overflow-y-auto p-6">
        <SecondSignIn signIn={signIn} first={seat.userId} onSigned={setSecond} />
      </main>
    );
  const leave = () => {
    void signIn.leaveBeside();
    setSecond(null);
  };
  return <Two left={seat} right={beside.seat} onLeave={leave} />;
}

function Two({ left, right, onLeave }: { left: Seat; right: Seat; onLeave: () => void }) {
  const { id } = useParams();
  const go = useNavigate();
  useObservable(right);
  const shared = useMemo(() => {
    const there = new Set(right.list.conversations.map((one) => one.id));
    return left.list.conversations.filter((one) => there.has(one.id));
  }, [left.list.conversations, right.list.conversations]);
  const last = recallConversation(left.userId);
  const chosen = shared.find((one) => one.id === id) ?? shared.find((one) => one.id === last) ?? shared[0];

  return (
    <main className="grid min-h-0 grid-cols-[minmax(0,1fr)] grid-rows-[auto_auto_1fr_auto]">
      <div className="flex items-center gap-3 border-b border-line px-3 py-2">
        <h2 className="font-semibold">Side by side</h2>
        <label className="flex min-w-0 items-center gap-2">
          <span className="text-faint">on</span>
          <select
            className={`${field} max-w-[40vw]`}
            value={chosen?.id ?? ""}
            onChange={(event) => void go(`/side-by-side/${event.target.value}`)}
          >
            {shared.map((one) => (
              <option key={one.id} value={one.id}>
                {titleOf(one, left.profiles)}
              </option>
            ))}
          </select>
        </label>
        <button type="button" className="ml-auto text-xs underline" onClick={onLeave}>
          another second member
        </button>
      </div>
      {chosen ? (
        <Pair key={chosen.id} id={chosen.id} left={left} right={right} />
      ) : (
        <p className="p-4 text-faint">
          {right.list.listed
            ? "These two share no conversation. Add one of them to one of the other's."
            : "reading"}
        </p>
      )}
    </main>
  );
}

function Pair({ id, left, right }: { id: string; left: Seat; right: Seat }) {
  const mine = useCopy(left, id);
  const theirs = useCopy(right, id);
  return (
    <>
      <div className="grid grid-cols-[minmax(0,1fr)_56px_minmax(0,1fr)] border-b border-line bg-shoal">
        <SeatHead seat={left} side="left" />
        <span />
        <SeatHead seat={right} side="right" />
      </div>
      {mine && theirs ? (
        <Spine left={{ seat: left, copy: mine }} right={{ seat: right, copy: theirs }} />
      ) : (
        <div aria-busy className="p-4 text-faint">
          reading
        </div>
      )}
      <div className="grid grid-cols-[minmax(0,1fr)_56px_minmax(0,1fr)] border-t border-line">
        <SeatFoot seat={left} id={id} />
        <span />
        <SeatFoot seat={right} id={id} />
      </div>
    </>
  );
}

/** The copy of a conversation, once it is there; what could not be read with the line away is read when it is back. */
function useCopy(seat: Seat, id: string): ConversationCopy | null {
  const [copy, setCopy] = useState<ConversationCopy | null>(null);
  const live = useObservable(seat.line).state === "live";
  // biome-ignore lint/correctness/useExhaustiveDependencies: a line that comes back is what this reacts to
  useEffect(() => {
    let here = true;
    const fill = async () => {
      const opened = await seat.pages.open(id, null);
      if (opened.head > 0)
        await seat.pages.load(id, { limit: SHOWN, before: opened.head + 1 }).catch(() => {});
      if (here) setCopy(opened);
    };
    fill().catch(() => {});
    return () => {
      here = false;
    };
  }, [seat, id, live]);
  return copy;
}
