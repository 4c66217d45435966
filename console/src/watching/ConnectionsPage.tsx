import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answered } from "../api/client";
import { Columns, PagedPlace } from "../app/PagedPlace";
import { useSeat } from "../app/seatContext";
import { Button } from "../app/ui";
import { count, counted, exactTime, shortTime } from "../lib/format";
import { wordsOf } from "../order/said";

/** Who is connected, with what lag; and a way to end a connection. For a trusted backend. */
export function ConnectionsPage() {
  const { seat } = useSeat();
  const [problem, setProblem] = useState("");
  const found = useInfiniteQuery({
    queryKey: ["connections", seat.userId],
    refetchInterval: 3_000,
    queryFn: ({ pageParam }) =>
      answered(
        seat.api.GET("/v1/connections", {
          params: { query: pageParam ? { cursor: pageParam, limit: 200 } : { limit: 200 } },
        }),
      ),
    initialPageParam: null as string | null,
    getNextPageParam: (last) => last.next,
  });
  const end = async (connection_id: string) => {
    try {
      await answered(
        seat.api.DELETE("/v1/connections/{connection_id}", { params: { path: { connection_id } } }),
      );
      setProblem("");
    } catch (error) {
      setProblem(wordsOf(error));
    }
    await found.refetch();
  };
  const pages = found.data?.pages ?? [];
  const items = pages.flatMap((page) => page.items);
  const nameOf = (id: string) => pages.map((page) => page.profiles[id]).find(Boolean)?.display_name ?? id;
  return (
    <PagedPlace
      found={found}
      problem={problem}
      more="More"
      head={
        <>
          <h2 className="font-semibold">Connections</h2>
          <span className="sounding text-faint" role="status">
            {found.isSuccess
              ? `${counted(items.length, "connection")}${found.hasNextPage ? " shown" : ""}`
              : ""}
          </span>
        </>
      }
    >
      <table className="w-full">
        <caption className="sr-only">Open sockets and streams</caption>
        <Columns names={["Person", "Kind", "Since", "Follows", "Behind in", "Process"]} last="End" />
        <tbody>
          {items.map((one) => (
            <tr key={one.connection_id} className="border-b border-line">
              <td className="max-w-60 truncate px-3 py-1">
                {nameOf(one.user_id)} <span className="sounding text-faint">{one.user_id}</span>
              </td>
              <td className="px-3">{one.kind}</td>
              <td className="sounding px-3" title={exactTime(one.since)}>
                {shortTime(one.since)}
              </td>
              <td className="sounding px-3">{count(one.follows)}</td>
              <td className={`sounding px-3 ${one.behind ? "text-buoy" : ""}`}>{count(one.behind)}</td>
              <td className="sounding px-3 text-faint">{one.process}</td>
              <td className="px-3 text-right">
                <Button
                  aria-label={`End the connection of ${one.user_id}`}
                  onClick={() => void end(one.connection_id)}
                >
                  End
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </PagedPlace>
  );
}
