import { type Attachment, answered, type Message } from "../api/client";
import type { Seat } from "../sync/seat";

const LINK_SECONDS = 60;

/** Let the browser fetch a file itself, by a link that stands for this moment: however large, no page holds it. */
export async function fetched(seat: Seat, message: Message, one: Attachment): Promise<void> {
  const { url } = await answered(
    seat.api.POST("/v1/conversations/{conversation_id}/attachments/{attachment_id}/link", {
      params: { path: { conversation_id: message.conversation_id, attachment_id: one.attachment_id } },
      body: { expires_in: LINK_SECONDS },
    }),
  );
  const link = document.createElement("a");
  link.href = url;
  link.download = one.name;
  link.rel = "noreferrer";
  link.click();
}
