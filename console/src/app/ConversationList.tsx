import { useVirtualizer } from "@tanstack/react-virtual";
import { Megaphone, Plus, User, Users } from "lucide-react";
import { memo, useDeferredValue, useRef, useState } from "react";
import { NavLink } from "react-router";
import type { Conversation } from "../api/client";
import { count, counted, exactTime, saidIn, shortTime, titleOf } from "../lib/format";
import { MakeDialog } from "./MakeDialog";
import { OpenDialog } from "./OpenDialog";
import { useSeat } from "./seatContext";
import { field } from "./ui";
import { useObservable } from "./useObservable";

/** Each row is two lines of text, however long they are. */
const ROW_PX = 53;

const ICONS = { group: Users, direct: User, bulletin: Megaphone } as const;

/** One's conversations by newest activity, to find one in and to make one. */
export function ConversationList() {
  const { seat } = useSeat();
  useObservable(seat);
  const [sought, setSought] = useState("");
  const needle = useDeferredValue(sought).trim().toLowerCase();
  const all = seat.list.conversations;
  const shown = needle
    ? all.filter((one) => `${titleOf(one, seat.profiles)} ${one.name ?? ""}`.toLowerCase().includes(needle))
    : all;
  const pane = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: shown.length,
    getScrollElement: () => pane.current,
    estimateSize: () => ROW_PX,
    getItemKey: (index) => shown[index]?.id ?? index,
    overscan: 10,
  });
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
      <div ref={pane} className="min-h-0 overflow-y-auto">
        <ul className="relative" style={{ height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map(({ index, key, start }) => {
            const one = shown[index];
            if (!one) return null;
            const last = one.last_message?.author_id;
            return (
              <li
                key={key}
                aria-setsize={shown.length}
                aria-posinset={index + 1}
                className="absolute inset-x-0"
                style={{ top: start, height: ROW_PX }}
              >
                <Item
                  one={one}
                  title={titleOf(one, seat.profiles)}
                  who={last ? (seat.profiles.get(last)?.display_name ?? last) : ""}
                />
              </li>
            );
          })}
        </ul>
        {seat.list.listed && shown.length === 0 && (
          <p className="p-4 text-faint">
            {needle ? "None is called that." : "You are in no conversation yet."}
          </p>
        )}
        {seat.list.problem && (
          <p role="alert" className="p-4 text-buoy">
            {seat.list.problem}
          </p>
        )}
      </div>
    </nav>
  );
}

const most = (n: number): string => (n > 999 ? "999+" : String(n));

/** Drawn again only when it has changed itself. */
const Item = memo(function Item({ one, title, who }: { one: Conversation; title: string; who: string }) {
  const Icon = ICONS[one.kind];
  const last = one.last_message;
  return (
    <NavLink
      to={`/c/${one.id}`}
      className={({ isActive }) =>
        `grid h-full grid-cols-[16px_1fr_auto] gap-x-2 border-b border-line px-3 py-2 ${isActive ? "bg-depth" : "hover:bg-shoal"}`
      }
    >
      <Icon size={14} aria-label={one.kind} className="mt-[3px] text-faint" />
      <span className="truncate font-medium">{title}</span>
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
});
