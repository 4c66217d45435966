import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answered, type Profile } from "../api/client";
import { Columns, PagedPlace } from "../app/PagedPlace";
import { PersonField } from "../app/PersonField";
import { useSeat } from "../app/seatContext";
import { exactTime, shortTime } from "../lib/format";

/** What people with a role did to others; for a trusted backend. */
export function AuditPage() {
  const { seat } = useSeat();
  const [actor, setActor] = useState<Profile[]>([]);
  const who = actor[0]?.user_id;
  const found = useInfiniteQuery({
    queryKey: ["audit", who ?? "", seat.userId],
    queryFn: ({ pageParam }) =>
      answered(
        seat.api.GET("/v1/audit", {
          params: {
            query: pageParam
              ? { cursor: pageParam, limit: 100 }
              : { limit: 100, ...(who ? { actor: who } : {}) },
          },
        }),
      ),
    initialPageParam: null as string | null,
    getNextPageParam: (last) => last.next,
  });
  const items = found.data?.pages.flatMap((page) => page.items) ?? [];
  return (
    <PagedPlace
      found={found}
      more="Older"
      head={
        <>
          <h2 className="font-semibold">Audit</h2>
          <div className="w-60">
            <PersonField id="audit-actor" label="Done by" chosen={actor} onChange={setActor} most={1} />
          </div>
          <span className="text-xs text-faint">It is only ever added to.</span>
        </>
      }
    >
      {found.isSuccess && items.length === 0 ? (
        <p className="p-4 text-faint">Nothing was done.</p>
      ) : (
        <table className="w-full">
          <caption className="sr-only">Acts, newest first</caption>
          <Columns names={["When", "Who", "Did", "To", "Where", "Values"]} />
          <tbody>
            {items.map((one) => (
              <tr key={one.audit_id} className="border-b border-line align-top">
                <td className="sounding px-3 py-1 whitespace-nowrap" title={exactTime(one.at)}>
                  {shortTime(one.at)}
                </td>
                <td className="max-w-40 truncate px-3 py-1">{one.actor}</td>
                <td className="px-3 py-1 whitespace-nowrap">{one.act.replaceAll("-", " ")}</td>
                <td className="max-w-40 truncate px-3 py-1">{one.user_id}</td>
                <td
                  className="sounding px-3 py-1 whitespace-nowrap text-faint"
                  title={one.conversation_id ?? ""}
                >
                  {one.conversation_id?.slice(-6)} {one.seq}
                </td>
                <td className="sounding max-w-96 px-3 py-1 break-words">
                  {valuesOf(one.before, one.after)}
                  {one.reason && <span className="block font-sans text-faint">{one.reason}</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </PagedPlace>
  );
}

type Values = Record<string, unknown> | null;

/** The values of an act as words: what they were, and what they became. */
function valuesOf(before: Values, after: Values): string {
  const text = (values: Values) =>
    Object.entries(values ?? {})
      .filter(([, value]) => value !== null)
      .map(([name, value]) => `${name} ${Array.isArray(value) ? value.join(", ") : String(value)}`)
      .join("; ");
  return [text(before), text(after)].filter(Boolean).join(" → ");
}
