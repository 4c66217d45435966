import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { answered } from "../api/client";
import { PagedPlace } from "../app/PagedPlace";
import { useSeat } from "../app/seatContext";
import { Button } from "../app/ui";
import { useObservable } from "../app/useObservable";
import { exactTime, shortTime, titleOf } from "../lib/format";
import { wordsOf } from "./said";

/** What readers have reported in conversations in which one judges. */
export function ReportsPage() {
  const { seat } = useSeat();
  useObservable(seat);
  const [state, setState] = useState<"open" | "done">("open");
  const [problem, setProblem] = useState("");
  const found = useInfiniteQuery({
    queryKey: ["reports", state, seat.userId],
    queryFn: ({ pageParam }) =>
      answered(
        seat.api.GET("/v1/reports", {
          params: { query: pageParam ? { cursor: pageParam, limit: 50 } : { state, limit: 50 } },
        }),
      ),
    initialPageParam: null as string | null,
    getNextPageParam: (last) => last.next,
  });
  const settle = async (report_id: string, to: "open" | "done") => {
    try {
      await answered(
        seat.api.PATCH("/v1/reports/{report_id}", { params: { path: { report_id } }, body: { state: to } }),
      );
      setProblem("");
    } catch (error) {
      setProblem(wordsOf(error));
    }
    await found.refetch();
  };
  const pages = found.data?.pages ?? [];
  const items = pages.flatMap((page) => page.items);
  const nameOf = (userId: string) =>
    pages.map((page) => page.profiles[userId]).find(Boolean)?.display_name ??
    seat.profiles.get(userId)?.display_name ??
    userId;
  const placeOf = (id: string) => {
    const mine = seat.list.conversations.find((one) => one.id === id);
    return mine ? titleOf(mine, seat.profiles) : id;
  };
  return (
    <PagedPlace
      found={found}
      problem={problem}
      more="Older"
      head={
        <>
          <h2 className="font-semibold">Reports</h2>
          <select
            aria-label="Which"
            value={state}
            onChange={(event) => setState(event.target.value as "open" | "done")}
            className="border border-line bg-paper px-2 py-1"
          >
            <option value="open">open</option>
            <option value="done">settled</option>
          </select>
        </>
      }
    >
      {found.isSuccess && items.length === 0 && (
        <p className="p-4 text-faint">
          {state === "open" ? "Nothing is reported where you judge." : "Nothing has been settled."}
        </p>
      )}
      <ul>
        {items.map((one) => (
          <li key={one.report_id} className="grid gap-1 border-b border-line px-3 py-2">
            <div className="flex items-baseline gap-3">
              <span className="min-w-0 flex-1">
                <strong className="text-buoy">{one.reason}</strong>
                <span className="text-faint"> — {nameOf(one.reported_by)}</span>
              </span>
              <time className="sounding text-faint" title={exactTime(one.reported_at)}>
                {shortTime(one.reported_at)}
              </time>
              <Button onClick={() => void settle(one.report_id, state === "open" ? "done" : "open")}>
                {state === "open" ? "Settle" : "Open again"}
              </Button>
            </div>
            <blockquote className="border-l-2 border-line pl-2 break-words whitespace-pre-wrap">
              {one.message ? one.message.body || "(attachments alone)" : "what it said is no longer kept"}
            </blockquote>
            <span className="text-xs text-faint">
              {nameOf(one.author_id)} in{" "}
              <Link to={`/c/${one.conversation_id}?at=${one.seq}`} className="underline">
                {placeOf(one.conversation_id)}, {one.seq}
              </Link>
            </span>
          </li>
        ))}
      </ul>
    </PagedPlace>
  );
}
