import { Megaphone, Plus, User, Users } from "lucide-react";
import { useDeferredValue, useState } from "react";
import { NavLink } from "react-router";
import type { Conversation } from "../api/client";
import { count, counted, exactTime, saidIn, shortTime, titleOf } from "../lib/format";
import { MakeDialog } from "./MakeDialog";
import { OpenDialog } from "./OpenDialog";
import { useSeat } from "./seatContext";
import { field } from "./ui";
import { useObservable } from "./useObservable";

const ICONS = { group: Users, direct: User, bulletin: Megaphone } as const;

/** One's conversations by newest activity, to find one in and to make one. */
export function ConversationList() {
  const { seat } = useSeat();
  useObservable(seat);
  const [sought, setSought] = useState("");
  const needle = useDeferredValue(sought).trim().toLowerCase();
  const shown = seat.list.conversations.filter((one) =>
    `${titleOf(one, seat.profiles)} ${one.name ?? ""}`.toLowerCase().includes(needle),
  );
  return (
    <nav aria-label="Conversations" className="grid h-full grid-rows-[auto_auto_1fr]">
      <header className="flex items-center gap-2 border-b border-line px-3 py-2">
        <h2 className="mr-auto font-semibold">Conversations</h2>
        <OpenDialog />
        <MakeDialog
          trigger={
            <button
              type="button"
              className="flex items-center gap-1 border border-line px-2 py-0.5 hover:bg-shoal"
            >
              <Plus size={14} aria-hidden /> New
            </button>
          }
        />
      </header>
      <div className="border-b border-line px-3 py-2">
        <input
          type="search"
          value={sought}
          onChange={(event) => setSought(event.target.value)}
          placeholder="Find by title or name"
          aria-label="Find a conversation"
          className={field}
        />
      </div>
      <ul className="min-h-0 overflow-y-auto">
        {shown.map((one) => (
          <li key={one.id}>
            <Item one={one} />
          </li>
        ))}
        {seat.list.listed && shown.length === 0 && (
          <li className="p-4 text-faint">
            {needle ? "None is called that." : "You are in no conversation yet."}
          </li>
        )}
        {seat.list.problem && (
          <li role="alert" className="p-4 text-buoy">
            {seat.list.problem}
          </li>
        )}
      </ul>
    </nav>
  );
}

const most = (n: number): string => (n > 999 ? "999+" : String(n));

function Item({ one }: { one: Conversation }) {
  const { seat } = useSeat();
  const Icon = ICONS[one.kind];
  const last = one.last_message;
  const who = last ? (seat.profiles.get(last.author_id)?.display_name ?? last.author_id) : "";
  return (
    <NavLink
      to={`/c/${one.id}`}
      className={({ isActive }) =>
        `grid grid-cols-[16px_1fr_auto] gap-x-2 border-b border-line px-3 py-2 ${isActive ? "bg-depth" : "hover:bg-shoal"}`
      }
    >
      <Icon size={14} aria-label={one.kind} className="mt-[3px] text-faint" />
      <span className="truncate font-medium">{titleOf(one, seat.profiles)}</span>
      <span className="sounding text-faint" title={last ? exactTime(last.created_at) : undefined}>
        {last ? shortTime(last.created_at) : ""}
      </span>
      <span className="col-start-2 truncate text-xs text-faint">
        {last ? (last.removed_at ? "removed" : `${who}: ${saidIn(last)}`) : "nothing said yet"}
      </span>
      <span className="sounding flex justify-end gap-1.5 font-semibold text-buoy">
        {one.unread_mentions ? (
          <span title={`${counted(one.unread_mentions, "message names", "messages name")} you`}>
            @{most(one.unread_mentions)}
            <span className="sr-only"> name you</span>
          </span>
        ) : null}
        {one.unread ? (
          <span title={`${count(one.unread)} unread`}>
            {most(one.unread)}
            <span className="sr-only"> unread</span>
          </span>
        ) : null}
      </span>
    </NavLink>
  );
}
