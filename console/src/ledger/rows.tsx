import { useQuery } from "@tanstack/react-query";
import { Button } from "../app/ui";
import { clockTime, count } from "../lib/format";
import { ruleOf } from "../retention/query";
import type { Entry } from "../sync/outbox";
import type { Seat } from "../sync/seat";
import { GRID } from "./grid";

/** A post without a number yet: on its way, waiting for the line, or refused with the reason. */
export function PendingRow(props: {
  pending: Entry;
  live: boolean;
  /** How much of its files has gone, from 0 to 1. */
  part: number | undefined;
  onRetry: () => void;
  onDrop: () => void;
}) {
  const { pending, live, part, onRetry, onDrop } = props;
  const state = pending.reason !== null ? "refused" : live ? "sending" : "queued";
  return (
    <article className={`${GRID} border-b border-line py-1`} data-state={state}>
      <span className="sounding col-start-1 row-start-1 border-l-2 border-buoy pr-1 text-right text-faint">
        —
      </span>
      <span className="sounding col-start-2 row-start-1 hidden pt-px text-faint sm:inline">
        {clockTime(pending.at)}
      </span>
      <span
        className={`col-start-2 row-start-1 sm:col-start-3 ${state === "refused" ? "font-semibold text-buoy" : "text-faint"}`}
      >
        {state}
      </span>
      <div className="col-start-2 min-w-0 break-words sm:col-start-4 sm:row-start-1">
        <span className="whitespace-pre-wrap opacity-75">{pending.content.body}</span>
        {pending.files && (
          <p className="flex flex-wrap items-center gap-2 text-faint">
            {pending.files.map((one) => one.name).join(", ")}
            {part !== undefined && (
              <progress value={part} max={1} aria-label="Files sent" className="h-2 w-32 accent-buoy" />
            )}
          </p>
        )}
        {pending.reason !== null && (
          <p role="alert" className="mt-1 flex flex-wrap items-center gap-2 text-buoy">
            {pending.reason}
            <Button onClick={onRetry}>Try again</Button>
            <Button onClick={onDrop}>Discard</Button>
          </p>
        )}
      </div>
    </article>
  );
}

/** Numbers that are not loaded. */
export function GapRow({ from, to, onLoad }: { from: number; to: number; onLoad: () => void }) {
  return (
    <div className="hatched flex h-9 items-center justify-center border-b border-line">
      <button type="button" onClick={onLoad} className="sounding bg-paper px-2 underline">
        {from === to ? count(from) : `${count(from)}–${count(to)}`}, load
      </button>
    </div>
  );
}

const FATES = { archive: "archived", discard: "discarded" };

/** What retention took, and what the rule says becomes of it, where that can be asked. */
export function TornRow({ gone, floor, seat, id }: { gone: number; floor: number; seat: Seat; id: string }) {
  const rule = useQuery(ruleOf(seat, id));
  const words = rule.data?.then ? FATES[rule.data.then] : "no longer kept";
  return (
    <div className="torn bg-depth pt-1 pb-4 text-center text-xs text-faint">
      {count(gone)} earlier {gone === 1 ? "message" : "messages"} {words}, floor {count(floor)}
    </div>
  );
}
