import Markdown from "react-markdown";
import rehypeSanitize from "rehype-sanitize";
import remarkGfm from "remark-gfm";
import type { Message } from "../api/client";
import { Button } from "../app/ui";
import { clockTime, count, dayOf, exactTime } from "../lib/format";
import type { Pending } from "../sync/conversationCopy";

const GRID = "grid grid-cols-[56px_minmax(0,1fr)] gap-x-3 px-3 sm:grid-cols-[64px_40px_132px_minmax(0,1fr)]";

/** A numbered message. Text is shown as text; Markdown becomes a safe subset of elements. */
export function MessageRow(props: { message: Message; author: string; own: boolean; newDay: boolean }) {
  const { message, author, own, newDay } = props;
  return (
    <>
      {newDay && (
        <div className="border-b border-line bg-shoal px-3 py-1 text-center text-xs text-faint">
          {dayOf(message.created_at)}
        </div>
      )}
      <article className={`${GRID} border-b border-line py-1`} data-seq={message.seq}>
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
          title={author}
        >
          {author}
        </span>
        <div className="col-start-2 min-w-0 break-words sm:col-start-4 sm:row-start-1">
          {message.reply_to !== null && (
            <span className="sounding mr-2 text-faint">↳ {message.reply_to}</span>
          )}
          <Body message={message} />
        </div>
      </article>
    </>
  );
}

function Body({ message }: { message: Message }) {
  if (message.removed_at) return <span className="text-faint italic">removed</span>;
  if (message.format === "markdown")
    return (
      <div className="prose">
        <Markdown remarkPlugins={[remarkGfm]} rehypePlugins={[rehypeSanitize]}>
          {message.body}
        </Markdown>
      </div>
    );
  return <span className="whitespace-pre-wrap">{message.body}</span>;
}

/** A post without a number yet: sending, waiting for the line, or refused with the reason. */
export function PendingRow(props: { pending: Pending; onRetry: () => void; onDrop: () => void }) {
  const { pending, onRetry, onDrop } = props;
  return (
    <article className={`${GRID} border-b border-line py-1`} data-state={pending.state}>
      <span className="sounding col-start-1 row-start-1 border-l-2 border-buoy pr-1 text-right text-faint">
        —
      </span>
      <span className="sounding col-start-2 row-start-1 hidden pt-px text-faint sm:inline">
        {clockTime(pending.at)}
      </span>
      <span
        className={`col-start-2 row-start-1 sm:col-start-3 ${pending.state === "refused" ? "font-semibold text-buoy" : "text-faint"}`}
      >
        {pending.state}
      </span>
      <div className="col-start-2 min-w-0 break-words sm:col-start-4 sm:row-start-1">
        <span className="whitespace-pre-wrap opacity-75">{pending.body}</span>
        {pending.state === "refused" && (
          <p role="alert" className="mt-1 flex flex-wrap items-center gap-2 text-buoy">
            {pending.reason}
            <Button onClick={onRetry}>Try again</Button>
            <Button onClick={onDrop}>Discard</Button>
          </p>
        )}
      </div>
    </article>
  );
}

/** Numbers that are not loaded. */
export function GapRow({ from, to, onLoad }: { from: number; to: number; onLoad: () => void }) {
  return (
    <div className="hatched flex h-9 items-center justify-center border-b border-line">
      <button type="button" onClick={onLoad} className="sounding bg-paper px-2 underline">
        {from === to ? count(from) : `${count(from)}–${count(to)}`}, load
      </button>
    </div>
  );
}

/** What retention took. */
export function TornRow({ gone, floor }: { gone: number; floor: number }) {
  return (
    <div className="torn bg-depth pt-1 pb-4 text-center text-xs text-faint">
      {count(gone)} earlier {gone === 1 ? "message is" : "messages are"} no longer kept, floor {count(floor)}
    </div>
  );
}
