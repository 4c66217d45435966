import { answered } from "../api/client";
import type { Seat } from "../sync/seat";

/** The rule by which a conversation goes, asked once for all who show it. */
export const ruleOf = (seat: Seat, id: string) => ({
  queryKey: ["retention", id, seat.userId],
  queryFn: () =>
    answered(
      seat.api.GET("/v1/conversations/{conversation_id}/retention", {
        params: { path: { conversation_id: id } },
      }),
    ),
});
