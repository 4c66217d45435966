import { Flag, Pencil, SmilePlus, ThumbsUp, Trash2 } from "lucide-react";
import { type KeyboardEvent, useState } from "react";
import type { Message } from "../api/client";
import { Button } from "../app/ui";
import { clockTime, dayOf, exactTime } from "../lib/format";
import { storageWords } from "../lib/storage";
import type { ConversationCopy } from "../sync/conversationCopy";
import type { Seat } from "../sync/seat";
import { Attached } from "./Attached";
import { reactedWith, rightsOn } from "./actions";
import { Earlier } from "./Earlier";
import { EditBox } from "./EditBox";
import { GRID } from "./grid";
import { NamedBeside, NamedText } from "./Named";
import { PersonCard } from "./PersonCard";
import { Prose } from "./Prose";
import { ChooseSymbol, Reactions } from "./Reactions";
import { Receipts } from "./Receipts";
import { ReportBox } from "./ReportBox";

type Props = {
  message: Message;
  /** Shown as it will be: a command about it waits for the line. */
  waiting: boolean;
  copy: ConversationCopy;
  seat: Seat;
  newDay: boolean;
  /** Unread messages begin here. */
  unreadFrom: boolean;
  /** What was looked for and brought the reader here. */
  marked: boolean;
  /** Whether Tab comes to this row; the arrow keys move it. */
  current: boolean;
  onCurrent: () => void;
};

type Doing = "edit" | "remove" | null | "report";

/** A numbered message. Text is shown as text; Markdown becomes a safe subset of elements. */
export function MessageRow(props: Props) {
  const { message, waiting, copy, seat, newDay, unreadFrom, marked, current, onCurrent } = props;
  const [doing, setDoing] = useState<Doing>(null);
  const [problem, setProblem] = useState("");
  const rights = rightsOn(message, copy, seat);
  const own = message.author_id === seat.userId;

  const act = (work: Promise<unknown>) => {
    setProblem("");
    work.catch((error: unknown) => setProblem(storageWords(error)));
  };
  const toggle = (symbol: string) =>
    act(seat.commands.react(copy, message.seq, symbol, !reactedWith(message, symbol, seat.userId)));
  const remove = () => {
    setDoing(null);
    act(seat.commands.remove(copy, message.seq));
  };

  const onKeyDown = (event: KeyboardEvent<HTMLElement>) => {
    if (event.target !== event.currentTarget || event.ctrlKey || event.metaKey || event.altKey) return;
    const key = event.key.toLowerCase();
    if (key === "l" && rights.react) toggle("like");
    else if (key === "e" && rights.edit) setDoing("edit");
    else if (key === "delete" && rights.remove) setDoing("remove");
    else return;
    event.preventDefault();
  };

  return (
    <>
      {newDay && (
        <div className="border-b border-line bg-shoal px-3 py-1 text-center text-xs text-faint">
          {dayOf(message.created_at)}
        </div>
      )}
      {unreadFrom && (
        <div className="border-t-2 border-buoy px-3 text-right text-xs text-buoy">unread from here</div>
      )}
      <article
        className={`${GRID} group relative overflow-clip border-b border-line py-1 ${marked ? "bg-depth" : ""}`}
        aria-current={marked || undefined}
        data-seq={message.seq}
        tabIndex={current ? 0 : -1}
        onFocus={onCurrent}
        onKeyDown={onKeyDown}
        aria-label={`Message ${message.seq}`}
      >
        <span
          className={`sounding col-start-1 row-start-1 border-l-2 pt-px pr-1 text-right text-faint ${own ? "border-buoy" : "border-transparent"}`}
        >
          {message.seq}
        </span>
        <time
          dateTime={message.created_at}
          title={exactTime(message.created_at)}
          className="sounding col-start-2 row-start-1 justify-self-end pt-px text-faint"
        >
          {clockTime(message.created_at)}
        </time>
        <span
          className="col-start-2 row-start-1 min-w-0 truncate pr-12 font-medium sm:col-start-3 sm:pr-0"
          title={copy.nameOf(message.author_id)}
        >
          <PersonCard
            userId={message.author_id}
            name={copy.nameOf(message.author_id)}
            seat={seat}
            tab={current ? 0 : -1}
          />
        </span>
        <div className="col-start-2 min-w-0 break-words sm:col-start-4 sm:row-start-1">
          {doing === "edit" ? (
            <EditBox message={message} copy={copy} seat={seat} onEnd={() => setDoing(null)} />
          ) : (
            <>
              {message.reply_to !== null && (
                <span className="sounding mr-2 text-faint">↳ {message.reply_to}</span>
              )}
              <Body message={message} copy={copy} me={seat.userId} />
              {waiting && <span className="ml-2 text-xs text-buoy">queued</span>}
              {message.edits > 0 && <Earlier message={message} seat={seat} />}
              <Reactions {...{ message, copy, seat, toggle }} enabled={rights.react} />
              <Attached message={message} seat={seat} tab={current ? 0 : -1} />
            </>
          )}
          {doing === "remove" && (
            <p className="flex flex-wrap items-center gap-2 py-1">
              Remove it for good?
              <Button strong autoFocus onClick={remove}>
                Remove
              </Button>
              <Button onClick={() => setDoing(null)}>Keep</Button>
            </p>
          )}
          {doing === "report" && <ReportBox message={message} seat={seat} onEnd={() => setDoing(null)} />}
          {problem && (
            <p role="alert" className="text-buoy">
              {problem}
            </p>
          )}
        </div>
        <div className="col-start-2 sm:col-start-5 sm:row-start-1">
          <Receipts
            users={(copy.receipts().get(message.seq) ?? []).filter((userId) => userId !== seat.userId)}
            copy={copy}
          />
        </div>
        {doing === null && <Bar {...{ message, seat, rights, current, toggle, setDoing }} />}
      </article>
    </>
  );
}

/** What can be done, on the row under the pointer or with the focus. */
function Bar(props: {
  message: Message;
  seat: Seat;
  rights: ReturnType<typeof rightsOn>;
  current: boolean;
  toggle: (symbol: string) => void;
  setDoing: (doing: Doing) => void;
}) {
  const { message, seat, rights, current, toggle, setDoing } = props;
  if (!(rights.react || rights.edit || rights.remove || rights.report)) return null;
  const look = "px-1.5 py-1 hover:bg-shoal";
  const tab = current ? 0 : -1;
  const liked = reactedWith(message, "like", seat.userId);
  return (
    <div className="pointer-events-none absolute top-0 right-3 z-10 flex border border-line bg-paper text-faint opacity-0 group-focus-within:pointer-events-auto group-focus-within:opacity-100 group-hover:pointer-events-auto group-hover:opacity-100">
      {rights.react && (
        <button
          type="button"
          tabIndex={tab}
          className={`${look} ${liked ? "text-chart" : ""}`}
          aria-pressed={liked}
          aria-label={`Like message ${message.seq}`}
          title="Like (L)"
          onClick={() => toggle("like")}
        >
          <ThumbsUp size={14} aria-hidden />
        </button>
      )}
      {rights.react && (
        <ChooseSymbol choose={toggle}>
          <button
            type="button"
            tabIndex={tab}
            className={look}
            aria-label={`React to message ${message.seq}`}
            title="React"
          >
            <SmilePlus size={14} aria-hidden />
          </button>
        </ChooseSymbol>
      )}
      {rights.edit && (
        <button
          type="button"
          tabIndex={tab}
          className={look}
          aria-label={`Edit message ${message.seq}`}
          title="Edit (E)"
          onClick={() => setDoing("edit")}
        >
          <Pencil size={14} aria-hidden />
        </button>
      )}
      {rights.remove && (
        <button
          type="button"
          tabIndex={tab}
          className={look}
          aria-label={`Remove message ${message.seq}`}
          title="Remove (Delete)"
          onClick={() => setDoing("remove")}
        >
          <Trash2 size={14} aria-hidden />
        </button>
      )}
      {rights.report && (
        <button
          type="button"
          tabIndex={tab}
          className={look}
          aria-label={`Report message ${message.seq}`}
          title="Report"
          onClick={() => setDoing("report")}
        >
          <Flag size={14} aria-hidden />
        </button>
      )}
    </div>
  );
}

function Body({ message, copy, me }: { message: Message; copy: ConversationCopy; me: string }) {
  if (message.removed_at)
    return (
      <span className="text-faint italic">
        removed
        {message.removed_by &&
          message.removed_by !== message.author_id &&
          ` by ${copy.nameOf(message.removed_by)}`}
      </span>
    );
  if (message.format === "markdown")
    return <Prose beside={<NamedBeside {...{ message, copy, me }} />}>{message.body}</Prose>;
  return (
    <>
      <NamedText {...{ message, copy, me }} />
      <NamedBeside {...{ message, copy, me }} />
    </>
  );
}
