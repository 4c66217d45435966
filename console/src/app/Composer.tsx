import { type ClipboardEvent, type KeyboardEvent, useEffect, useLayoutEffect, useRef, useState } from "react";
import { Prose } from "../ledger/Prose";
import { matching, namedIn, soughtAt } from "../lib/mentions";
import { small, storageWords } from "../lib/storage";
import { broken, type Field, fromHtml, inCode, indented, linked } from "../lib/writing";
import type { ConversationCopy } from "../sync/conversationCopy";
import { useChoices } from "./Choices";
import { ChooseFiles, EnclosedList, useDropped, useEnclosing } from "./Enclosing";
import { useSeat } from "./seatContext";
import { Button } from "./ui";
import { useObservable } from "./useObservable";

const MOST = 8000;
const SHOWN = 8;

/** Write a message: Enter sends, Shift+Enter breaks the line, `@` names a member; files are chosen, dropped or pasted.
 * In Markdown a broken line goes on with its list, Tab moves an item or a line of code in, Enter breaks the line within a
 * block of code, and pasted links stay links. What is not sent stays, for each conversation. */
export function Composer({ copy }: { copy: ConversationCopy }) {
  const { seat } = useSeat();
  useObservable(copy);
  const { id } = copy;
  const draft = `nestrel.draft.${seat.userId}.${id}`;
  const [body, setBody] = useState(() => small.get(draft) ?? "");
  const [caret, setCaret] = useState(0);
  const [closedAt, setClosedAt] = useState<number | null>(null);
  const box = useRef<HTMLTextAreaElement>(null);
  /** Where the caret is to stand once what was taken from the list is in the field. */
  const placed = useRef<number | null>(null);
  const [markdown, setMarkdown] = useState(() => small.get(`${draft}.markdown`) === "1");
  const [previewed, setPreviewed] = useState(false);
  const [problem, setProblem] = useState("");
  const enclosing = useEnclosing();
  const over = useDropped(enclosing.add);
  const length = [...body].length;
  const says = body.trim() !== "";
  const fit = (says || enclosing.files.length > 0) && length <= MOST;

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
    small.set(draft, body || null);
    const area = box.current;
    if (!area) return;
    area.style.height = "auto";
    area.style.height = `${Math.min(area.scrollHeight + 2, 200)}px`;
  }, [body, draft]);

  const send = () => {
    if (!fit) return;
    const { files } = enclosing;
    const sent = { mentions: namedIn(body, people), markdown: markdown && says, files };
    seat.commands.post(id, says ? body : "", sent).catch((error: unknown) => {
      // It could not be kept: the words are not lost, and stand here as before, above what was written since.
      setBody((now) => (now ? `${body}\n${now}` : body));
      if (!small.get(draft)) small.set(draft, body); // for whoever has gone to another conversation meanwhile
      enclosing.restore(files);
      setProblem(storageWords(error));
    });
    setProblem("");
    setBody("");
    seat.writers.sent();
    enclosing.clear();
    setPreviewed(false);
    setClosedAt(null);
    box.current?.focus();
  };

  const put = (made: Field | null): boolean => {
    if (!made) return false;
    setBody(made.text);
    setCaret(made.start);
    placed.current = made.start;
    return true;
  };
  const written = (): Field => {
    const { selectionStart: start = caret, selectionEnd: end = caret } = box.current ?? {};
    return { text: body, start, end };
  };

  /** What a key means in Markdown; false where it means what it does everywhere. */
  const write = (event: KeyboardEvent): boolean => {
    const code = inCode(body, written().start);
    let done = false;
    if (event.key === "Tab") done = put(indented(written(), event.shiftKey));
    else if (event.key === "Enter" && event.shiftKey) done = put(broken(written()));
    else if (event.key === "Enter" && code && !event.ctrlKey) return true; // the field breaks the line itself
    if (done) event.preventDefault();
    return done;
  };

  const onPaste = (event: ClipboardEvent) => {
    if (enclosing.paste(event) || !markdown) return;
    const { start, end } = written();
    const text = event.clipboardData.getData("text/plain");
    const rich = fromHtml(event.clipboardData.getData("text/html"));
    const made: Field | null =
      linked(written(), text) ??
      (rich === null
        ? null
        : {
            text: body.slice(0, start) + rich + body.slice(end),
            start: start + rich.length,
            end: start + rich.length,
          });
    if (put(made)) event.preventDefault();
  };

  const toggleMarkdown = () => {
    small.set(`${draft}.markdown`, markdown ? "0" : "1");
    setMarkdown(!markdown);
    setPreviewed(false);
    box.current?.focus();
  };

  const onKeyDown = (event: KeyboardEvent) => {
    if (choices.onKey(event)) return;
    if (markdown && write(event)) return;
    if (event.key !== "Enter" || event.shiftKey || event.nativeEvent.isComposing) return;
    event.preventDefault();
    send();
  };

  return (
    <div className={`border-t border-line ${over ? "outline-2 -outline-offset-2 outline-buoy" : ""}`}>
      <EnclosedList enclosing={enclosing} />
      {problem && (
        <p role="alert" className="px-3 pt-2 text-buoy">
          Not sent. {problem}
        </p>
      )}
      {previewed && (
        <section aria-label="How it will look" className="max-h-60 overflow-y-auto bg-shoal px-3 py-2">
          {says ? <Prose>{body}</Prose> : <p className="text-faint">Nothing written yet.</p>}
        </section>
      )}
      <div className="relative flex flex-wrap items-end gap-2 px-3 py-2">
        <div className="absolute bottom-full left-3 w-80 max-w-full">
          <div className="relative [&>[role=listbox]]:bottom-0">{choices.list}</div>
        </div>
        <textarea
          ref={box}
          {...speaks}
          value={body}
          onChange={(event) => {
            setBody(event.target.value);
            if (event.target.value.trim()) seat.isWriting(id);
            setCaret(event.target.selectionStart);
            if (soughtAt(event.target.value, event.target.selectionStart) === null) setClosedAt(null);
          }}
          onSelect={(event) => setCaret(event.currentTarget.selectionStart)}
          onKeyDown={onKeyDown}
          onPaste={onPaste}
          rows={1}
          aria-label="Message"
          placeholder="Message. Enter sends, Shift+Enter breaks the line, @ names a member"
          className="min-h-[30px] min-w-40 flex-1 resize-none border border-line bg-paper px-2 py-1 placeholder:text-faint"
        />
        {length > MOST - 500 && (
          <span
            className={`sounding self-center ${length > MOST ? "text-buoy" : "text-faint"}`}
            role="status"
          >
            {MOST - length}
          </span>
        )}
        <ChooseFiles enclosing={enclosing} />
        <Button onClick={toggleMarkdown} aria-pressed={markdown} className={markdown ? "text-chart" : ""}>
          Markdown
        </Button>
        {markdown && (
          <Button onClick={() => setPreviewed(!previewed)} aria-pressed={previewed}>
            Preview
          </Button>
        )}
        <Button strong onClick={send} disabled={!fit}>
          Send
        </Button>
      </div>
    </div>
  );
}
