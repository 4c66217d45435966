import { useState } from "react";
import { answered, type Conversation } from "../api/client";
import { useSeat } from "./seatContext";
import { Button, field } from "./ui";

const WEEK_SECONDS = 7 * 86_400;

/** Make a link with which people join: for a week, as often as one likes. It is shown this once. */
export function Inviting(props: { conversation: Conversation; onMade?: () => void }) {
  const { conversation, onMade } = props;
  const { seat } = useSeat();
  const [link, setLink] = useState("");
  const [said, setSaid] = useState("");

  const make = async () => {
    try {
      const made = await answered(
        seat.api.POST("/v1/conversations/{conversation_id}/invitations", {
          params: { path: { conversation_id: conversation.id } },
          body: { expires_in: WEEK_SECONDS },
        }),
      );
      setLink(`${window.location.origin}/console/invited/${made.token}`);
      setSaid("");
      onMade?.();
    } catch (error) {
      setSaid(error instanceof Error ? error.message : String(error));
    }
  };
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(link);
      setSaid("Copied.");
    } catch {
      setSaid("It could not be copied; take it from the field.");
    }
  };
  return (
    <div className="pt-3">
      {link ? (
        <div className="flex gap-2">
          <input
            readOnly
            value={link}
            aria-label="Invitation link"
            onFocus={(event) => event.target.select()}
            className={field}
          />
          <Button onClick={() => void copy()}>Copy</Button>
        </div>
      ) : (
        <Button onClick={() => void make()}>Make an invitation link</Button>
      )}
      <p className="mt-1 text-xs text-faint" role="status">
        {said || (link ? "Whoever has it joins, for a week. It is shown this once." : "")}
      </p>
    </div>
  );
}
