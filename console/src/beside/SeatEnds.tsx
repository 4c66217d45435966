import { Switch } from "radix-ui";
import { type FormEvent, useState } from "react";
import { Button, field } from "../app/ui";
import { useObservable } from "../app/useObservable";
import { count, resyncText } from "../lib/format";
import type { Seat } from "../sync/seat";

const WORDS = { connecting: "catching up", live: "live", away: "away", refused: "refused" } as const;

/** A seat's member, its line with the switch, and what its last resync took. */
export function SeatHead({ seat, side }: { seat: Seat; side: "left" | "right" }) {
  useObservable(seat);
  useObservable(seat.outbox);
  const line = useObservable(seat.line);
  const name = seat.profiles.get(seat.userId)?.display_name ?? seat.userId;
  const waiting = seat.outbox.shown.length;
  return (
    <section aria-label={`${side} seat`} className="min-w-0 px-3 py-2">
      <div className="flex flex-wrap items-center gap-x-3">
        <h3 className="truncate font-semibold">{name}</h3>
        <span
          role="status"
          aria-label={`${side} line`}
          className={`text-xs font-semibold ${line.state === "live" ? "text-chart" : "text-buoy"}`}
        >
          {WORDS[line.state]}
        </span>
        <span className="ml-auto flex items-center gap-2 text-xs">
          <span aria-hidden className="text-faint">
            line
          </span>
          <Switch.Root
            checked={!line.held}
            onCheckedChange={(on) => (on ? line.restore() : line.cut())}
            aria-label={`line of ${name}`}
            className="h-4 w-8 border border-ink bg-paper p-px data-[state=checked]:bg-chart"
          >
            <Switch.Thumb className="block h-full w-3 bg-ink transition-transform data-[state=checked]:translate-x-[15px] data-[state=checked]:bg-paper" />
          </Switch.Root>
        </span>
      </div>
      <p className="sounding truncate text-faint" data-testid={`${side} resync`}>
        {line.state === "live" && seat.resynced
          ? `${resyncText(seat.resynced)}${seat.resynced.requests > 1 ? ` in ${count(seat.resynced.requests)} answers` : ""}`
          : line.reason || "…"}
        {waiting > 0 && <span className="text-buoy"> · {count(waiting)} waiting</span>}
      </p>
    </section>
  );
}

/** Where a seat writes. */
export function SeatFoot({ seat, id }: { seat: Seat; id: string }) {
  const [body, setBody] = useState("");
  const name = seat.profiles.get(seat.userId)?.display_name ?? seat.userId;
  const send = (event: FormEvent) => {
    event.preventDefault();
    if (body.trim() === "") return;
    seat.commands.post(id, body).catch(() => setBody((now) => (now ? `${body} ${now}` : body)));
    setBody("");
  };
  return (
    <form onSubmit={send} className="flex min-w-0 gap-2 px-3 py-2">
      <input
        value={body}
        maxLength={8000}
        onChange={(event) => setBody(event.target.value)}
        aria-label={`Message as ${name}`}
        placeholder={`as ${name}`}
        className={field}
      />
      <Button type="submit" strong disabled={body.trim() === ""}>
        Send
      </Button>
    </form>
  );
}
