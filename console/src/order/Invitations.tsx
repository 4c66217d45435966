import { answered, type Conversation } from "../api/client";
import { Inviting } from "../app/Inviting";
import { MoreOnScroll } from "../app/MoreOnScroll";
import { useSeat } from "../app/seatContext";
import { Button } from "../app/ui";
import { pageAt, usePages } from "../app/usePages";
import { counted, shortTime } from "../lib/format";

/** The invitations that there are, to take back; and another one to make. */
export function Invitations({ conversation }: { conversation: Conversation }) {
  const { seat } = useSeat();
  const path = { conversation_id: conversation.id };
  const found = usePages(["invitations", conversation.id, seat.userId], (cursor) =>
    answered(
      seat.api.GET("/v1/conversations/{conversation_id}/invitations", {
        params: { path, query: pageAt(cursor) },
      }),
    ),
  );
  const revoke = async (id: string) => {
    await answered(
      seat.api.DELETE("/v1/conversations/{conversation_id}/invitations/{invitation_id}", {
        params: { path: { ...path, invitation_id: id } },
      }),
    );
    await found.refetch();
  };
  return (
    <section aria-labelledby="invitations" className="border-t border-line pt-3">
      <h3 id="invitations" className="font-semibold">
        Invitations
      </h3>
      <ul className="max-h-80 overflow-y-auto">
        {found.data?.pages.flatMap((page) =>
          page.items.map((one) => (
            <li key={one.invitation_id} className="flex items-center gap-3 border-b border-line py-1">
              <span className="min-w-0 flex-1 truncate">
                makes a {one.role}, made by {page.profiles[one.created_by]?.display_name ?? one.created_by}
              </span>
              <span className="sounding text-faint">
                {one.uses_left === null ? "any number of times" : counted(one.uses_left, "time")}
                {one.expires_at ? `, until ${shortTime(one.expires_at)}` : ""}
              </span>
              <Button onClick={() => void revoke(one.invitation_id)}>Take back</Button>
            </li>
          )),
        )}
        <MoreOnScroll found={found} />
      </ul>
      <Inviting conversation={conversation} onMade={() => void found.refetch()} />
      {found.error && (
        <p role="alert" className="text-buoy">
          {found.error.message}
        </p>
      )}
    </section>
  );
}
