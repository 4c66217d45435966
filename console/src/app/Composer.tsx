import { type KeyboardEvent, useEffect, useRef, useState } from "react";
import { useSeat } from "./seatContext";
import { Button } from "./ui";

const MOST = 8000;

/** Write a message: Enter sends, Shift+Enter breaks the line. What is not sent stays, for each conversation. */
export function Composer({ id }: { id: string }) {
  const { seat } = useSeat();
  const draft = `nestrel.draft.${seat.userId}.${id}`;
  const [body, setBody] = useState(() => localStorage.getItem(draft) ?? "");
  const box = useRef<HTMLTextAreaElement>(null);
  const length = [...body].length;
  const fit = body.trim() !== "" && length <= MOST;

  useEffect(() => {
    if (body) localStorage.setItem(draft, body);
    else localStorage.removeItem(draft);
    const area = box.current;
    if (!area) return;
    area.style.height = "auto";
    area.style.height = `${Math.min(area.scrollHeight + 2, 200)}px`;
  }, [body, draft]);

  const send = () => {
    if (!fit) return;
    seat.commands.post(id, body);
    setBody("");
    box.current?.focus();
  };

  const onKeyDown = (event: KeyboardEvent) => {
    if (event.key !== "Enter" || event.shiftKey || event.nativeEvent.isComposing) return;
    event.preventDefault();
    send();
  };

  return (
    <div className="flex items-end gap-2 border-t border-line px-3 py-2">
      <textarea
        ref={box}
        value={body}
        onChange={(event) => setBody(event.target.value)}
        onKeyDown={onKeyDown}
        rows={1}
        aria-label="Message"
        placeholder="Message. Enter sends, Shift+Enter breaks the line"
        className="min-h-[30px] flex-1 resize-none border border-line bg-paper px-2 py-1 placeholder:text-faint"
      />
      {length > MOST - 500 && (
        <span className={`sounding self-center ${length > MOST ? "text-buoy" : "text-faint"}`} role="status">
          {MOST - length}
        </span>
      )}
      <Button strong onClick={send} disabled={!fit}>
        Send
      </Button>
    </div>
  );
}
