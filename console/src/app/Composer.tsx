import { type KeyboardEvent, useEffect, useLayoutEffect, useRef, useState } from "react";
import { matching, namedIn, soughtAt } from "../lib/mentions";
import type { ConversationCopy } from "../sync/conversationCopy";
import { useChoices } from "./Choices";
import { useSeat } from "./seatContext";
import { Button } from "./ui";
import { useObservable } from "./useObservable";

const MOST = 8000;
const SHOWN = 8;

/** Write a message: Enter sends, Shift+Enter breaks the line, `@` names a member. What is not sent stays, for each
 * conversation. */
export function Composer({ copy }: { copy: ConversationCopy }) {
  const { seat } = useSeat();
  useObservable(copy);
  const { id } = copy;
  const draft = `nestrel.draft.${seat.userId}.${id}`;
  const [body, setBody] = useState(() => localStorage.getItem(draft) ?? "");
  const [caret, setCaret] = useState(0);
  const [closedAt, setClosedAt] = useState<number | null>(null);
  const box = useRef<HTMLTextAreaElement>(null);
  /** Where the caret is to stand once what was taken from the list is in the field. */
  const placed = useRef<number | null>(null);
  const length = [...body].length;
  const fit = body.trim() !== "" && length <= MOST;

  const people = copy.nameable();
  const sought = soughtAt(body, caret);
  const naming = sought !== null && sought.from !== closedAt ? sought : null;
  const found = naming
    ? matching(
        people.filter((one) => one.userId !== seat.userId),
        naming.text,
        SHOWN,
      )
    : [];
  const take = (userId: string) => {
    const person = people.find((one) => one.userId === userId);
    if (!person || !naming) return;
    const before = `${body.slice(0, naming.from)}@${person.name} `;
    setBody(before + body.slice(caret).trimStart());
    setCaret(before.length);
    setClosedAt(naming.from);
    placed.current = before.length;
  };
  const choices = useChoices(
    found.map((one) => ({ key: one.userId, label: one.name, detail: one.userId })),
    take,
    () => setClosedAt(naming?.from ?? null),
    "Members to name",
  );

  // A field of several lines is no combobox (ARIA in HTML); what is marked in the list it says all the same.
  const { role: _role, "aria-expanded": _expanded, ...speaks } = choices.field;

  // Before the next key comes.
  // biome-ignore lint/correctness/useExhaustiveDependencies: the caret is placed with the body that it is of
  useLayoutEffect(() => {
    if (placed.current !== null) box.current?.setSelectionRange(placed.current, placed.current);
    placed.current = null;
  }, [body]);

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
    seat.commands.post(id, body, namedIn(body, people));
    setBody("");
    setClosedAt(null);
    box.current?.focus();
  };

  const onKeyDown = (event: KeyboardEvent) => {
    if (choices.onKey(event)) return;
    if (event.key !== "Enter" || event.shiftKey || event.nativeEvent.isComposing) return;
    event.preventDefault();
    send();
  };

  return (
    <div className="relative flex items-end gap-2 border-t border-line px-3 py-2">
      <div className="absolute bottom-full left-3 w-80 max-w-full">
        <div className="relative [&>[role=listbox]]:bottom-0">{choices.list}</div>
      </div>
      <textarea
        ref={box}
        {...speaks}
        value={body}
        onChange={(event) => {
          setBody(event.target.value);
          setCaret(event.target.selectionStart);
          if (soughtAt(event.target.value, event.target.selectionStart) === null) setClosedAt(null);
        }}
        onSelect={(event) => setCaret(event.currentTarget.selectionStart)}
        onKeyDown={onKeyDown}
        rows={1}
        aria-label="Message"
        placeholder="Message. Enter sends, Shift+Enter breaks the line, @ names a member"
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
