import { type FormEvent, useState } from "react";
import { answered, type Message } from "../api/client";
import { Button, field } from "../app/ui";
import { wordsOf } from "../order/said";
import type { Seat } from "../sync/seat";

/** Why a message is reported, under it. */
export function ReportBox({ message, seat, onEnd }: { message: Message; seat: Seat; onEnd: () => void }) {
  const [problem, setProblem] = useState("");
  const [told, setTold] = useState(false);
  const send = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const reason = String(new FormData(event.currentTarget).get("reason") ?? "").trim();
    if (!reason) return;
    try {
      await answered(
        seat.api.POST("/v1/conversations/{conversation_id}/messages/{seq}/reports", {
          params: { path: { conversation_id: message.conversation_id, seq: message.seq } },
          body: { reason },
        }),
      );
      setTold(true);
    } catch (error) {
      setProblem(wordsOf(error));
    }
  };
  if (told)
    return (
      <p role="status" className="flex items-center gap-2 py-1">
        Reported to the moderators.
        <Button autoFocus onClick={onEnd}>
          Done
        </Button>
      </p>
    );
  return (
    <form onSubmit={(event) => void send(event)} className="flex flex-wrap items-center gap-2 py-1">
      <input
        name="reason"
        // biome-ignore lint/a11y/noAutofocus: whoever reports goes on to say why
        autoFocus
        maxLength={1000}
        aria-label={`Why message ${message.seq} is reported`}
        placeholder="Why?"
        className={`${field} max-w-80`}
      />
      <Button strong type="submit">
        Report
      </Button>
      <Button onClick={onEnd}>Leave it</Button>
      {problem && (
        <p role="alert" className="w-full text-buoy">
          {problem}
        </p>
      )}
    </form>
  );
}
