import { useLayoutEffect, useRef } from "react";
import { useObservable } from "../app/useObservable";
import type { ConversationCopy } from "../sync/conversationCopy";
import type { Entry } from "../sync/outbox";
import type { Seat } from "../sync/seat";
import { align, type Cell, type Pairing } from "./align";

/** The newest numbers that are compared. */
export const SHOWN = 80;
const NEAR_END = 24;

type Side = { seat: Seat; copy: ConversationCopy };

/** The two copies on one spine of numbers: what one has and the other lacks stands out until both agree. */
export function Spine({ left, right }: { left: Side; right: Side }) {
  useObservable(left.copy);
  useObservable(right.copy);
  useObservable(left.seat.line);
  useObservable(right.seat.line);
  const rows = align(left.copy, right.copy, SHOWN);
  const pane = useRef<HTMLElement>(null);
  const atEnd = useRef(true);

  // biome-ignore lint/correctness/useExhaustiveDependencies: a change of the rows is what this reacts to
  useLayoutEffect(() => {
    const element = pane.current;
    if (element && atEnd.current) element.scrollTop = element.scrollHeight;
  }, [left.copy.version, right.copy.version]);

  return (
    <section
      ref={pane}
      aria-label="Spine"
      // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard
      tabIndex={0}
      className="min-h-0 overflow-y-auto"
      onScroll={(event) => {
        const element = event.currentTarget;
        atEnd.current = element.scrollHeight - element.scrollTop - element.clientHeight < NEAR_END;
      }}
    >
      <ol>
        {rows.map((row) => (
          <li
            key={keyOf(row)}
            data-seq={row.kind === "numbered" ? row.seq : undefined}
            className="grid grid-cols-[minmax(0,1fr)_56px_minmax(0,1fr)] border-b border-line"
          >
            <Half row={row} side={left} is="left" />
            <span className="sounding border-x border-line bg-shoal py-1 text-center text-faint">
              {row.kind === "numbered" ? row.seq : "—"}
            </span>
            <Half row={row} side={right} is="right" />
          </li>
        ))}
      </ol>
      {rows.length === 0 && <p className="p-4 text-faint">Nothing said yet.</p>}
    </section>
  );
}

const keyOf = (row: Pairing): string =>
  row.kind === "numbered" ? `${row.seq}` : `${row.left?.key ?? ""} ${row.right?.key ?? ""}`;

function Half({ row, side, is }: { row: Pairing; side: Side; is: "left" | "right" }) {
  if (row.kind === "pending") return <Pending entry={row[is]} live={side.seat.line.state === "live"} />;
  return <Numbered cell={row[is]} side={side} is={is} />;
}

function Numbered({ cell, side, is }: { cell: Cell; side: Side; is: string }) {
  if (!cell)
    return (
      <div className="hatched px-3 py-1 text-xs text-faint" data-cell={`${is} missing`}>
        <span className="bg-paper px-1">not here</span>
      </div>
    );
  const { message, old } = cell;
  const own = message.author_id === side.seat.userId;
  return (
    <div
      data-cell={`${is} ${old ? "old" : "held"}`}
      className={`min-w-0 border-l-2 px-3 py-1 break-words ${own ? "border-buoy" : "border-transparent"} ${old ? "bg-depth" : ""}`}
    >
      <span className="mr-2 font-medium">{side.copy.nameOf(message.author_id)}</span>
      {message.removed_at ? (
        <span className="text-faint italic">removed</span>
      ) : (
        <span className="whitespace-pre-wrap">{message.body}</span>
      )}
      {message.edits > 0 && <span className="ml-2 text-xs text-faint">edited</span>}
      {message.reactions.map((one) => (
        <span key={one.symbol} className="sounding ml-2 text-faint">
          {one.symbol} {one.count}
        </span>
      ))}
      {old && <span className="ml-2 text-xs text-buoy">older, rev {message.rev}</span>}
    </div>
  );
}

function Pending({ entry, live }: { entry: Entry | null; live: boolean }) {
  if (!entry) return <span />;
  const state = entry.reason !== null ? "refused" : live ? "sending" : "queued";
  return (
    <div className="min-w-0 border-l-2 border-buoy px-3 py-1 break-words" data-cell={state}>
      <span className={`mr-2 ${state === "refused" ? "font-semibold text-buoy" : "text-faint"}`}>
        {state}
      </span>
      <span className="whitespace-pre-wrap opacity-75">{entry.content.body}</span>
    </div>
  );
}
