import { X } from "lucide-react";
import { type KeyboardEvent, useEffect, useRef, useState } from "react";
import type { Message } from "../api/client";
import { Button } from "../app/ui";
import { renamed } from "../lib/mentions";
import { storageWords } from "../lib/storage";
import type { ConversationCopy } from "../sync/conversationCopy";
import { CommandRefused } from "../sync/line";
import type { Seat } from "../sync/seat";

type Props = { message: Message; copy: ConversationCopy; seat: Seat; onEnd: () => void };

/** Edit a message in its place: Enter saves, Escape leaves it as it was. Whoever was overtaken sees it and decides. */
export function EditBox({ message, copy, seat, onEnd }: Props) {
  const [body, setBody] = useState(message.body);
  const [rev, setRev] = useState(message.rev);
  const [kept, setKept] = useState(message.attachments);
  const [problem, setProblem] = useState("");
  const [overtaken, setOvertaken] = useState<Message | null>(null);
  const box = useRef<HTMLTextAreaElement>(null);

  useEffect(() => {
    const area = box.current;
    if (!area) return;
    area.focus();
    area.setSelectionRange(area.value.length, area.value.length);
  }, []);

  const save = async () => {
    const attachments = kept.map((one) => one.attachment_id);
    const says = body.trim() !== "";
    if (!says && kept.length === 0) return setProblem("A message cannot be empty. Remove it instead.");
    try {
      const mentions = renamed(message.mentions ?? [], message.body, body, copy.nameable());
      await seat.commands.edit(copy, message.seq, {
        body: says ? body : "",
        mentions,
        rev,
        ...(kept.length < message.attachments.length ? { attachments } : {}),
      });
      onEnd();
    } catch (error) {
      const present =
        error instanceof CommandRefused ? (error.problem.message as Message | undefined) : undefined;
      if (present) {
        setOvertaken(present);
        setRev(present.rev);
      }
      setProblem(storageWords(error));
    }
  };

  const onKeyDown = (event: KeyboardEvent) => {
    event.stopPropagation();
    if (event.key === "Escape") onEnd();
    if (event.key !== "Enter" || event.shiftKey || event.nativeEvent.isComposing) return;
    event.preventDefault();
    void save();
  };

  return (
    <div>
      <textarea
        ref={box}
        value={body}
        onChange={(event) => setBody(event.target.value)}
        onKeyDown={onKeyDown}
        rows={Math.min(8, body.split("\n").length)}
        aria-label={`Edit message ${message.seq}`}
        className="w-full resize-none border border-buoy bg-paper px-2 py-1"
      />
      {kept.length > 0 && (
        <ul aria-label="Files of this message" className="flex flex-wrap gap-2 pb-1">
          {kept.map((one) => (
            <li
              key={one.attachment_id}
              className="flex max-w-full items-center gap-2 border border-line px-2"
            >
              <span className="truncate">{one.name}</span>
              <button
                type="button"
                onClick={() => setKept(kept.filter((other) => other !== one))}
                aria-label={`Leave out ${one.name}`}
              >
                <X size={12} aria-hidden />
              </button>
            </li>
          ))}
        </ul>
      )}
      <p className="flex flex-wrap items-center gap-2 pb-1 text-xs text-faint">
        <Button strong onClick={() => void save()}>
          {overtaken ? "Save anyway" : "Save"}
        </Button>
        <Button onClick={onEnd}>Leave as it was</Button>
        Enter saves, Escape leaves
      </p>
      {problem && (
        <p role="alert" className="pb-1 text-buoy">
          {problem}
          {overtaken && <span className="block whitespace-pre-wrap text-ink">Now: {overtaken.body}</span>}
        </p>
      )}
    </div>
  );
}
