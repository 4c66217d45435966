import { useQuery } from "@tanstack/react-query";
import { answered, type Conversation } from "../api/client";
import { Inviting } from "../app/Inviting";
import { useSeat } from "../app/seatContext";
import { Button } from "../app/ui";
import { counted, shortTime } from "../lib/format";

/** The invitations that there are, to take back; and another one to make. */
export function Invitations({ conversation }: { conversation: Conversation }) {
  const { seat } = useSeat();
  const path = { conversation_id: conversation.id };
  const found = useQuery({
    queryKey: ["invitations", conversation.id, seat.userId],
    queryFn: () =>
      answered(
        seat.api.GET("/v1/conversations/{conversation_id}/invitations", {
          params: { path, query: { limit: 200 } },
        }),
      ),
  });
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
      <ul>
        {found.data?.items.map((one) => (
          <li key={one.invitation_id} className="flex items-center gap-3 border-b border-line py-1">
            <span className="min-w-0 flex-1 truncate">
              makes a {one.role}, made by{" "}
              {found.data.profiles[one.created_by]?.display_name ?? one.created_by}
            </span>
            <span className="sounding text-faint">
              {one.uses_left === null ? "any number of times" : counted(one.uses_left, "time")}
              {one.expires_at ? `, until ${shortTime(one.expires_at)}` : ""}
            </span>
            <Button onClick={() => void revoke(one.invitation_id)}>Take back</Button>
          </li>
        ))}
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
