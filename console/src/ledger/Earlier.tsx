import { useQuery } from "@tanstack/react-query";
import { Popover } from "radix-ui";
import { useState } from "react";
import { answered, type Message } from "../api/client";
import { clockTime, dayOf, exactTime } from "../lib/format";
import type { Seat } from "../sync/seat";

/** `edited`, which opens the earlier bodies: the first hundred of them. */
export function Earlier({ message, seat }: { message: Message; seat: Seat }) {
  const [open, setOpen] = useState(false);
  const path = { conversation_id: message.conversation_id, seq: message.seq };
  const earlier = useQuery({
    queryKey: ["edits", path, message.rev, seat.userId],
    queryFn: () =>
      answered(
        seat.api.GET("/v1/conversations/{conversation_id}/messages/{seq}/edits", {
          params: { path, query: { limit: 100 } },
        }),
      ),
    enabled: open,
  });
  const times = message.edits === 1 ? "" : ` ${message.edits}×`;
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger
        className="ml-2 text-xs text-faint underline decoration-dotted"
        title={message.edited_at ? exactTime(message.edited_at) : undefined}
      >
        edited{times}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          aria-label={`Earlier bodies of message ${message.seq}`}
          align="start"
          side="top"
          collisionPadding={8}
          className="z-20 max-h-80 w-[min(480px,90vw)] overflow-y-auto border border-ink bg-paper"
        >
          {earlier.isError && (
            <p role="alert" className="p-2 text-buoy">
              {earlier.error.message}
            </p>
          )}
          <ol>
            {earlier.data?.items.map((one) => (
              <li key={one.n} className="grid grid-cols-[32px_1fr] gap-2 border-b border-line px-2 py-1">
                <span className="sounding text-right text-faint">{one.n}</span>
                <span className="min-w-0 break-words">
                  <span className="block text-xs text-faint">
                    {dayOf(one.created_at)} {clockTime(one.created_at)}
                  </span>
                  <span className="whitespace-pre-wrap">{one.body}</span>
                </span>
              </li>
            ))}
          </ol>
          {earlier.isPending && <p className="p-2 text-faint">reading</p>}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
