import { useState } from "react";
import { answered, type Profile } from "../api/client";
import type { components } from "../api/schema";
import { Columns, PagedPlace } from "../app/PagedPlace";
import { PersonField } from "../app/PersonField";
import { useSeat } from "../app/seatContext";
import { pageAt, usePages } from "../app/usePages";
import { exactTime, shortTime } from "../lib/format";

/** What people with a role did to others; for a trusted backend. */
export function AuditPage() {
  const { seat } = useSeat();
  const [actor, setActor] = useState<Profile[]>([]);
  const who = actor[0]?.user_id;
  const found = usePages(["audit", who ?? "", seat.userId], (cursor) => {
    const query = { ...pageAt(cursor), ...(who && !cursor ? { actor: who } : {}) };
    return answered(seat.api.GET("/v1/audit", { params: { query } }));
  });
  const pages = found.data?.pages ?? [];
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
      {pages[0]?.items.length === 0 ? (
        <p className="p-4 text-faint">Nothing was done.</p>
      ) : (
        <table className="w-full">
          <caption className="sr-only">Acts, newest first</caption>
          <Columns names={["When", "Who", "Did", "To", "Where", "What"]} />
          <tbody>
            {pages.map((page) => page.items.map((one) => <Row key={one.audit_id} one={one} page={page} />))}
          </tbody>
        </table>
      )}
    </PagedPlace>
  );
}

type Page = components["schemas"]["AuditPage"];

function Row({ one, page }: { one: Page["items"][number]; page: Page }) {
  const name = (id: string | null) => (id === null ? "" : (page.profiles[id]?.display_name ?? id));
  const place = one.conversation_id === null ? undefined : page.conversations[one.conversation_id];
  return (
    <tr className="border-b border-line align-top">
      <td className="sounding px-3 py-1 whitespace-nowrap" title={exactTime(one.at)}>
        {shortTime(one.at)}
      </td>
      <td className="max-w-40 truncate px-3 py-1" title={one.actor}>
        {name(one.actor)}
      </td>
      <td className="px-3 py-1 whitespace-nowrap">{one.act.replaceAll("-", " ")}</td>
      <td className="max-w-40 truncate px-3 py-1" title={one.user_id ?? ""}>
        {name(one.user_id)}
      </td>
      <td className="max-w-60 truncate px-3 py-1" title={one.conversation_id ?? ""}>
        {place ? place.title || place.name || "direct" : one.conversation_id}
        {one.seq !== null && <span className="sounding text-faint"> {one.seq}</span>}
      </td>
      <td className="max-w-96 px-3 py-1 break-words">
        {one.text}
        {one.reason && <span className="block text-faint">{one.reason}</span>}
      </td>
    </tr>
  );
}
