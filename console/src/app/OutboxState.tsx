import { Popover } from "radix-ui";
import type { Entry } from "../sync/outbox";
import { useSeat } from "./seatContext";
import { Button } from "./ui";

const WORDS = {
  post: "post",
  edit: "edit of",
  remove: "removal of",
  react: "reaction to",
  unreact: "reaction back from",
  read: "receipt at",
} as const;

/** What waits in the outbox, and what was refused, to try again or to give up. */
export function OutboxState() {
  const { seat } = useSeat();
  const { shown: waiting, refused } = seat.outbox;
  if (waiting.length + refused.length === 0) return null;
  return (
    <Popover.Root>
      <Popover.Trigger className="text-buoy underline">
        {[
          waiting.length ? `${waiting.length} waiting` : "",
          refused.length ? `${refused.length} refused` : "",
        ]
          .filter(Boolean)
          .join(", ")}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          side="top"
          sideOffset={8}
          collisionPadding={12}
          aria-label="Outbox"
          className="z-20 max-h-80 w-96 max-w-[92vw] overflow-y-auto border border-ink bg-paper p-3 text-sm"
        >
          <h2 className="mb-2 font-semibold">Outbox</h2>
          <ul>
            {[...refused, ...waiting].map((entry) => (
              <li key={entry.n} className="border-t border-line py-2">
                <Item entry={entry} />
              </li>
            ))}
          </ul>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function Item({ entry }: { entry: Entry }) {
  const { seat } = useSeat();
  const { content } = entry;
  const about = content.seq ?? content.read_seq;
  return (
    <>
      <p className="break-words">
        <span className="text-faint">
          {WORDS[entry.kind]} {about !== undefined && <span className="sounding">{about} </span>}
        </span>
        {content.body ?? content.symbol}
      </p>
      {entry.reason !== null && (
        <p className="mt-1 flex flex-wrap items-center gap-2 text-buoy">
          {entry.reason}
          <Button onClick={() => void seat.outbox.retry(entry.n)}>Try again</Button>
          <Button onClick={() => void seat.outbox.discard(entry.n)}>Discard</Button>
        </p>
      )}
    </>
  );
}
