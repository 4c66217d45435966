import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answered, type Conversation, type Message } from "../api/client";
import { useSeat } from "../app/seatContext";
import { Button } from "../app/ui";
import { bytesText, count, exactTime, shortTime } from "../lib/format";

/** The archive of a conversation: its segments, and the messages of one of them. */
export function Archive({ conversation }: { conversation: Conversation }) {
  const { seat } = useSeat();
  const [open, setOpen] = useState<number | null>(null);
  const pages = useInfiniteQuery({
    queryKey: ["archive", conversation.id, seat.userId],
    queryFn: ({ pageParam }) => {
      const query = pageParam === null ? { limit: 100 } : { limit: 100, cursor: pageParam };
      const params = { path: { conversation_id: conversation.id }, query };
      return answered(seat.api.GET("/v1/conversations/{conversation_id}/archive", { params }));
    },
    initialPageParam: null as string | null,
    getNextPageParam: (page) => page.next,
    // What is below the floor and not in a segment yet comes with one of the next sweeps.
    refetchInterval: 5_000,
  });
  const segments = pages.data?.pages.flatMap((page) => page.items) ?? [];
  const discarded = pages.data?.pages[0]?.discarded ?? [];
  return (
    <section aria-label="Archive" className="p-4">
      <h3 className="font-semibold">Archive</h3>
      {discarded.map((run) => (
        <p key={run.first_seq} className="text-faint">
          <span className="sounding">
            {count(run.first_seq)}–{count(run.last_seq)}
          </span>{" "}
          were discarded by the rule.
        </p>
      ))}
      {pages.data && segments.length === 0 && <p className="text-faint">Nothing is archived here.</p>}
      {segments.length > 0 && (
        <table className="mt-2 w-full text-left text-xs">
          <thead>
            <tr className="text-faint">
              {["segment", "numbers", "messages", "bytes", "archived", "SHA-256", ""].map((name) => (
                <th key={name} scope="col" className="border-b border-line py-1 pr-3 font-medium">
                  {name || <span className="sr-only">read</span>}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {segments.map((one) => (
              <tr
                key={one.segment}
                className={`border-b border-line ${open === one.segment ? "bg-depth" : ""}`}
              >
                <td className="sounding py-1 pr-3">{one.segment}</td>
                <td className="sounding py-1 pr-3 whitespace-nowrap">
                  {count(one.first_seq)}–{count(one.last_seq)}
                </td>
                <td className="sounding py-1 pr-3">{count(one.messages)}</td>
                <td className="sounding py-1 pr-3 whitespace-nowrap">{bytesText(one.bytes)}</td>
                <td className="sounding py-1 pr-3 whitespace-nowrap" title={exactTime(one.archived_at)}>
                  {shortTime(one.archived_at)}
                </td>
                <td className="sounding hidden py-1 pr-3 text-faint sm:table-cell" title={one.sha256}>
                  {one.sha256.slice(0, 12)}…
                </td>
                <td className="py-1 text-right">
                  <Button
                    aria-expanded={open === one.segment}
                    aria-label={`Read segment ${one.segment}`}
                    onClick={() => setOpen(open === one.segment ? null : one.segment)}
                  >
                    {open === one.segment ? "Close" : "Read"}
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {pages.hasNextPage && (
        <Button className="mt-2" onClick={() => void pages.fetchNextPage()}>
          More segments
        </Button>
      )}
      {open !== null && <Lines key={open} conversation={conversation} segment={open} />}
      {pages.error && (
        <p role="alert" className="text-buoy">
          {pages.error.message}
        </p>
      )}
    </section>
  );
}

const SHOWN = 200;

function Lines({ conversation, segment }: { conversation: Conversation; segment: number }) {
  const { seat } = useSeat();
  const [all, setAll] = useState(false);
  const lines = useQuery({
    queryKey: ["segment", conversation.id, segment],
    queryFn: async () => {
      const params = { path: { conversation_id: conversation.id, segment } };
      const text: string = await answered(
        seat.api.GET("/v1/conversations/{conversation_id}/archive/{segment}", { params, parseAs: "text" }),
      );
      return text
        .split("\n")
        .filter(Boolean)
        .map((line) => JSON.parse(line) as Message);
    },
  });
  if (lines.error)
    return (
      <p role="alert" className="mt-2 text-buoy">
        {lines.error.message}
      </p>
    );
  const found = lines.data ?? [];
  return (
    <section aria-label={`Segment ${segment}`} className="mt-3 border-t border-line">
      {(all ? found : found.slice(0, SHOWN)).map((one) => (
        <p
          key={one.seq}
          className="grid grid-cols-[4.5rem_4rem_minmax(0,1fr)] gap-x-2 border-b border-line py-0.5"
        >
          <span className="sounding text-right text-faint">{count(one.seq)}</span>
          <span className="sounding text-faint" title={exactTime(one.created_at)}>
            {shortTime(one.created_at)}
          </span>
          <span className="min-w-0 break-words">
            <b className="font-semibold">{seat.profiles.get(one.author_id)?.display_name ?? one.author_id}</b>{" "}
            {one.removed_at ? <span className="text-faint">removed</span> : one.body}
          </span>
        </p>
      ))}
      {!all && found.length > SHOWN && (
        <Button className="mt-2" onClick={() => setAll(true)}>
          The other {count(found.length - SHOWN)}
        </Button>
      )}
    </section>
  );
}
