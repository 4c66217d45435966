import { useSearchParams } from "react-router";
import { useObservable } from "../app/useObservable";
import { count } from "../lib/format";
import type { ConversationCopy, Row } from "../sync/conversationCopy";
import type { Seat } from "../sync/seat";
import { LedgerRow } from "./LedgerRow";
import { useLedgerScroll } from "./useLedgerScroll";
import { useRowFocus } from "./useRowFocus";

/** The numbered message pane. */
export function Ledger({ copy, seat }: { copy: ConversationCopy; seat: Seat }) {
  useObservable(copy);
  useObservable(seat.line);
  const rows = copy.rows();
  const [query] = useSearchParams();
  const marked = Number(query.get("at")) || null;
  const { pane, virtual, drawn, load, onScroll, release, toEnd, fresh, unreadFrom } = useLedgerScroll(
    copy,
    seat,
    rows,
  );
  const focus = useRowFocus(rows, (index) => virtual.scrollToIndex(index, { align: "auto" }));

  return (
    <div className="relative min-h-0">
      <section
        ref={pane}
        onScroll={onScroll}
        onWheel={release}
        onPointerDown={release}
        onKeyDown={(event) => {
          release();
          focus.onKeyDown(event);
        }}
        className="h-full overflow-y-auto"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard
        tabIndex={0}
        aria-label="Ledger"
      >
        <ol className="relative w-full" style={{ height: virtual.getTotalSize() }}>
          {drawn.map((item) => (
            <li
              key={item.key}
              data-index={item.index}
              ref={virtual.measureElement}
              className="absolute top-0 left-0 w-full"
              style={{ transform: `translateY(${item.start}px)` }}
            >
              <LedgerRow
                row={rows[item.index] as Row}
                previous={rows[item.index - 1]}
                copy={copy}
                seat={seat}
                load={load}
                unreadFrom={unreadFrom}
                marked={marked}
                current={focus.current}
                onCurrent={focus.setCurrent}
              />
            </li>
          ))}
        </ol>
        {rows.length === 0 && (
          <p className="p-4 text-faint">Nothing said yet. The first message will be number 1.</p>
        )}
      </section>
      {fresh > 0 && (
        <button
          type="button"
          onClick={toEnd}
          className="absolute bottom-3 left-1/2 -translate-x-1/2 border border-buoy bg-paper px-3 py-1 font-medium text-buoy"
        >
          {count(fresh)} new
        </button>
      )}
    </div>
  );
}
