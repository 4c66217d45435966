import { Popover, Tooltip } from "radix-ui";
import { useState } from "react";
import { answered, type Message } from "../api/client";
import { count } from "../lib/format";
import type { ConversationCopy } from "../sync/conversationCopy";
import type { Seat } from "../sync/seat";
import { reactedWith } from "./actions";

const CHOICES = ["like", "👍", "⚓", "🌊", "🙏", "🎉", "👀", "✅"];

type Props = { message: Message; copy: ConversationCopy; seat: Seat; enabled: boolean };

/** The reactions on a message: each a switch for one's own, that says who on hover and on focus. */
export function Reactions(props: Props & { toggle: (symbol: string) => void }) {
  const { message, copy, seat, enabled, toggle } = props;
  return (
    <span className="ml-2 inline-flex flex-wrap gap-1 align-baseline">
      {message.reactions.map((one) => (
        <Who key={one.symbol} {...{ message, copy, seat, enabled }} symbol={one.symbol}>
          <button
            type="button"
            disabled={!enabled}
            aria-pressed={reactedWith(message, one.symbol, seat.userId)}
            aria-label={`${one.symbol}, ${count(one.count)}`}
            onClick={() => toggle(one.symbol)}
            className={`sounding border px-1 leading-4 ${
              reactedWith(message, one.symbol, seat.userId)
                ? "border-chart text-chart"
                : "border-line text-faint"
            }`}
          >
            {one.symbol} {count(one.count)}
          </button>
        </Who>
      ))}
    </span>
  );
}

/** Names those who reacted; whom this copy does not know is asked for when one looks. */
function Who(props: Props & { symbol: string; children: React.ReactNode }) {
  const { message, copy, seat, symbol, children } = props;
  const reaction = message.reactions.find((one) => one.symbol === symbol);
  const by = reaction?.by ?? [];
  const [open, setOpen] = useState(false);
  const look = (wanted: boolean) => {
    setOpen(wanted);
    if (!wanted || by.every((userId) => copy.profiles.has(userId))) return;
    const path = { conversation_id: copy.id, seq: message.seq };
    answered(
      seat.api.GET("/v1/conversations/{conversation_id}/messages/{seq}/reactions", {
        params: { path, query: { symbol, limit: 100 } },
      }),
    ).then(
      (page) => copy.applyMembers([], Object.values(page.profiles)),
      () => {}, // the ids are shown
    );
  };
  const more = (reaction?.count ?? 0) - by.length;
  return (
    <Tooltip.Root open={open} onOpenChange={look} delayDuration={200}>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          side="top"
          className="z-20 max-w-72 border border-ink bg-paper px-2 py-1 text-xs shadow-sm"
        >
          {by.map((userId) => (userId === seat.userId ? "you" : copy.nameOf(userId))).join(", ")}
          {more > 0 && ` and ${count(more)} more`}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

/** The symbols at hand. */
export function ChooseSymbol(props: { choose: (symbol: string) => void; children: React.ReactNode }) {
  const [open, setOpen] = useState(false);
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger asChild>{props.children}</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          aria-label="Choose a symbol"
          side="top"
          className="z-20 flex gap-1 border border-ink bg-paper p-1"
        >
          {CHOICES.map((symbol) => (
            <button
              key={symbol}
              type="button"
              aria-label={symbol}
              className="min-w-7 px-1 hover:bg-shoal"
              onClick={() => {
                setOpen(false);
                props.choose(symbol);
              }}
            >
              {symbol}
            </button>
          ))}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
