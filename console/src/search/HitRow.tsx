import { useQuery } from "@tanstack/react-query";
import { type KeyboardEvent, useState } from "react";
import { Link } from "react-router";
import { answered, type Message, type Profile } from "../api/client";
import { rememberPlace } from "../app/reading";
import { useSeat } from "../app/seatContext";
import { clockTime, dayMonth, exactTime, saidIn } from "../lib/format";
import { runsOf } from "./marks";

export type Hit = { message: Message; marks: [number, number][] };

const BESIDE = 2;
/** Rows of the ledger above the hit when it opens. */
const ABOVE = 3;

type Props = {
  hit: Hit;
  title: string;
  nameOf: (userId: string) => string;
  onKeyDown: (event: KeyboardEvent<HTMLElement>) => void;
};

/** A hit: where it stands and what it says; what was said around it shows with the focus, and Enter opens the ledger. */
export function HitRow({ hit, title, nameOf, onKeyDown }: Props) {
  const { seat } = useSeat();
  const { message } = hit;
  const [chosen, setChosen] = useState(false);
  const around = useQuery({
    queryKey: ["around", message.conversation_id, message.seq, seat.userId],
    queryFn: () =>
      answered(
        seat.api.GET("/v1/conversations/{conversation_id}/messages", {
          params: {
            path: { conversation_id: message.conversation_id },
            query: { around: message.seq, limit: 2 * BESIDE + 1, order: "asc" },
          },
        }),
      ),
    enabled: chosen,
    staleTime: 60_000,
  });
  const beside = chosen ? (around.data?.items ?? []) : [];
  const profiles = around.data?.profiles ?? {};
  return (
    <li className="border-b border-line">
      <Beside messages={beside.filter((one) => one.seq < message.seq)} profiles={profiles} />
      <Link
        to={`/c/${message.conversation_id}?at=${message.seq}`}
        data-hit
        onClick={() =>
          rememberPlace(seat.userId, message.conversation_id, { seq: Math.max(1, message.seq - ABOVE) })
        }
        onFocus={() => setChosen(true)}
        onBlur={() => setChosen(false)}
        onKeyDown={onKeyDown}
        className="grid grid-cols-[4rem_1fr] gap-x-3 px-3 py-1.5 hover:bg-shoal focus:bg-depth sm:grid-cols-[4rem_8rem_9rem_1fr]"
      >
        <span className="sounding text-right text-faint">{message.seq}</span>
        <time
          dateTime={message.created_at}
          title={exactTime(message.created_at)}
          className="sounding text-faint"
        >
          {dayMonth(message.created_at)} {clockTime(message.created_at)}
        </time>
        <span className="col-start-2 truncate font-medium sm:col-start-3">{nameOf(message.author_id)}</span>
        <span className="col-start-2 min-w-0 break-words whitespace-pre-wrap sm:col-start-4">
          {runsOf(message.body, hit.marks).map((run) =>
            run.marked ? (
              <mark key={run.at} className="bg-transparent font-semibold text-buoy underline">
                {run.text}
              </mark>
            ) : (
              run.text
            ),
          )}
          <span className="ml-2 text-xs text-faint">in {title}</span>
        </span>
      </Link>
      <Beside messages={beside.filter((one) => one.seq > message.seq)} profiles={profiles} />
    </li>
  );
}

/** What was said in front of a hit or behind it, one line each. */
function Beside({ messages, profiles }: { messages: Message[]; profiles: Record<string, Profile> }) {
  return messages.map((one) => (
    <p
      key={one.seq}
      className="grid grid-cols-[4rem_1fr] gap-x-3 px-3 text-xs text-faint sm:grid-cols-[4rem_8rem_9rem_1fr]"
    >
      <span className="sounding text-right">{one.seq}</span>
      <span className="col-start-2 truncate sm:col-start-3">
        {profiles[one.author_id]?.display_name ?? one.author_id}
      </span>
      <span className="col-start-2 truncate sm:col-start-4">{one.removed_at ? "removed" : saidIn(one)}</span>
    </p>
  ));
}
