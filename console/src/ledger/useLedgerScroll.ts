import { useVirtualizer } from "@tanstack/react-virtual";
import { useCallback, useEffect, useLayoutEffect, useRef, useState } from "react";
import { recallPlace, rememberPlace } from "../app/reading";
import type { ConversationCopy, Row } from "../sync/conversationCopy";
import type { Seat } from "../sync/seat";

const PAGE = 100;
const NEAR_END = 24;

const keyOf = (row: Row): string | number => {
  if (row.kind === "message") return row.message.seq;
  if (row.kind === "pending") return row.pending.key;
  return row.kind === "gap" ? `gap ${row.to}` : "torn";
};

/** Where the ledger stands: it sticks to the end only when it was at the end, what is loaded above does not move what is
 * read, gaps are read when they are drawn, and what was on screen is said to be read. */
export function useLedgerScroll(copy: ConversationCopy, seat: Seat, rows: Row[]) {
  const pane = useRef<HTMLDivElement>(null);
  // Where unread messages began when this was opened.
  const [unreadFrom] = useState(() => {
    const read = copy.readSeqOf(seat.userId);
    return read === null || read >= copy.head ? null : read + 1;
  });
  const [recalled] = useState(() => recallPlace(seat.userId, copy.id).seq);
  const start = useRef(recalled ?? (unreadFrom === null ? null : unreadFrom - 1));
  const atEnd = useRef(start.current === null);
  const placed = useRef(false);
  const settling = useRef(false);
  const noting = useRef(0);
  const anchor = useRef<{ key: string | number; offset: number } | null>(null);
  const loading = useRef(new Set<string>());
  const [seenHead, setSeenHead] = useState(unreadFrom === null ? copy.head : unreadFrom - 1);

  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => pane.current,
    estimateSize: (index) => (rows[index]?.kind === "gap" ? 36 : 30),
    getItemKey: (index) => keyOf(rows[index] as Row),
    overscan: 12,
  });

  const load = useCallback(
    async (from: number, to: number, older: boolean) => {
      const name = `${from}-${to}`;
      if (loading.current.has(name)) return;
      loading.current.add(name);
      try {
        await seat.pages.load(
          copy.id,
          older ? { limit: PAGE, before: to + 1 } : { limit: PAGE, after: from - 1 },
        );
      } catch {
        // The strip says that the line is away; the row stays and can be asked for again.
      } finally {
        loading.current.delete(name);
      }
    },
    [copy, seat],
  );

  // Rows are measured only once they are drawn: the first place is aimed at until it stands still.
  const settle = (key: string | number | null) => {
    settling.current = true;
    let frames = 12;
    const aim = () => {
      if (!settling.current) return; // whoever scrolls meanwhile decides where to be
      const now = copy.rows();
      const index = key === null ? now.length - 1 : now.findIndex((row) => keyOf(row) === key);
      if (index >= 0) virtual.scrollToIndex(index, { align: key === null ? "end" : "start" });
      frames -= 1;
      if (frames > 0) requestAnimationFrame(aim);
      else {
        settling.current = false;
        onScroll();
      }
    };
    aim();
  };

  // After the rows have changed: stay at the end, or at what was first on screen.
  // biome-ignore lint/correctness/useExhaustiveDependencies: a change of the rows is what this reacts to
  useLayoutEffect(() => {
    const element = pane.current;
    if (!element || rows.length === 0) return;
    if (!placed.current) {
      placed.current = true;
      const wanted = start.current;
      const found = copy.rows().find((row) => row.kind === "message" && row.message.seq >= (wanted ?? 0));
      if (wanted === null || !found) {
        atEnd.current = true;
        settle(null);
      } else {
        anchor.current = { key: keyOf(found), offset: 0 };
        settle(keyOf(found));
      }
      return;
    }
    if (settling.current) return;
    if (atEnd.current) {
      virtual.scrollToIndex(rows.length - 1, { align: "end" });
      return;
    }
    const held = anchor.current;
    const index = held ? rows.findIndex((row) => keyOf(row) === held.key) : -1;
    const offset = index < 0 ? undefined : virtual.getOffsetForIndex(index, "start")?.[0];
    if (held && offset !== undefined) element.scrollTop = offset + held.offset;
  }, [copy.version]);

  const release = () => {
    if (!settling.current) return;
    settling.current = false;
    requestAnimationFrame(onScroll); // where one is now counts, also if nothing moves
  };

  const onScroll = () => {
    const element = pane.current;
    if (!element || settling.current) return;
    atEnd.current = element.scrollHeight - element.scrollTop - element.clientHeight < NEAR_END;
    if (atEnd.current) setSeenHead(copy.head);
    cancelAnimationFrame(noting.current);
    noting.current = requestAnimationFrame(note);
  };

  // What is on screen is asked of the page itself once the rows are drawn: positions before that are estimates.
  const note = () => {
    const element = pane.current;
    if (!element) return;
    const top = element.getBoundingClientRect().top;
    const now = copy.rows();
    for (const item of element.querySelectorAll<HTMLLIElement>("li[data-index]")) {
      const row = now[Number(item.dataset.index)];
      const box = item.getBoundingClientRect();
      if (box.bottom <= top || row?.kind !== "message") continue;
      anchor.current = { key: row.message.seq, offset: top - box.top };
      rememberPlace(seat.userId, copy.id, { seq: atEnd.current ? null : row.message.seq });
      break;
    }
    markRead();
  };

  // Read is what was on screen to its last line, in a window that is looked at: not more.
  const markRead = () => {
    const element = pane.current;
    if (!element || document.visibilityState !== "visible" || !document.hasFocus()) return;
    const bottom = element.getBoundingClientRect().bottom;
    let lowest = 0;
    for (const row of element.querySelectorAll<HTMLElement>("article[data-seq]"))
      if (row.getBoundingClientRect().bottom <= bottom + 1)
        lowest = Math.max(lowest, Number(row.dataset.seq));
    if (lowest > 0) void seat.commands.read(copy, lowest);
  };

  // biome-ignore lint/correctness/useExhaustiveDependencies: whatever is drawn anew may have come on screen
  useEffect(() => {
    const timer = window.setTimeout(markRead, 400);
    window.addEventListener("focus", markRead);
    return () => {
      window.clearTimeout(timer);
      window.removeEventListener("focus", markRead);
    };
  }, [copy.version, seat.line.state]);

  // A gap that is drawn, or is about to be, is read: from its lower side when one comes from below.
  const drawn = virtual.getVirtualItems();
  useEffect(() => {
    if (settling.current) return;
    const middle = drawn[Math.floor(drawn.length / 2)]?.index ?? 0;
    for (const item of drawn) {
      const row = rows[item.index];
      if (row?.kind === "gap") void load(row.from, row.to, item.index <= middle);
    }
  });

  useEffect(() => {
    if (atEnd.current) setSeenHead(copy.head);
  }, [copy.head]);

  const toEnd = () => {
    atEnd.current = true;
    virtual.scrollToIndex(rows.length - 1, { align: "end" });
    setSeenHead(copy.head);
  };
  const fresh = atEnd.current ? 0 : Math.max(0, copy.head - seenHead);
  return { pane, virtual, drawn, load, onScroll, release, toEnd, fresh, unreadFrom };
}
