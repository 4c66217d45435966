import { Download, File as FileIcon } from "lucide-react";
import { useState } from "react";
import type { Attachment, Message } from "../api/client";
import { bytesText } from "../lib/format";
import type { Seat } from "../sync/seat";
import { fetched } from "./fetched";
import { usePicture } from "./usePicture";
import { Viewer } from "./Viewer";

/** How high a picture stands in the ledger, in pixels: known before it comes, so that nothing jumps. */
const HEIGHT = 144;
const WIDEST = 320;

export const isPicture = (one: Attachment): boolean => one.width !== null && one.height !== null;

/** The files of a message: pictures small and at a fixed height, all else by its name. */
export function Attached({ message, seat, tab }: { message: Message; seat: Seat; tab: number }) {
  const [shown, setShown] = useState<number | null>(null);
  if (message.attachments.length === 0) return null;
  const pictures = message.attachments.filter(isPicture);
  const files = message.attachments.filter((one) => !isPicture(one));
  return (
    <div className="py-1">
      {pictures.length > 0 && (
        <ul className="flex flex-wrap gap-2">
          {pictures.map((one, n) => (
            <li key={one.attachment_id}>
              <Thumbnail {...{ message, one, seat, tab }} onOpen={() => setShown(n)} />
            </li>
          ))}
        </ul>
      )}
      {files.length > 0 && (
        <ul>
          {files.map((one) => (
            <li key={one.attachment_id}>
              <FileLine {...{ message, one, seat, tab }} />
            </li>
          ))}
        </ul>
      )}
      {shown !== null && (
        <Viewer
          {...{ message, pictures, seat }}
          at={shown}
          onMove={setShown}
          onClose={() => setShown(null)}
        />
      )}
    </div>
  );
}

type Each = { message: Message; one: Attachment; seat: Seat; tab: number };

function Thumbnail({ message, one, seat, tab, onOpen }: Each & { onOpen: () => void }) {
  const { address, problem } = usePicture(seat, {
    conversation: message.conversation_id,
    seq: message.seq,
    attachment: one.attachment_id,
    width: 320,
  });
  const ratio = (one.width ?? 1) / (one.height ?? 1);
  const width = Math.round(Math.min(WIDEST, Math.max(48, HEIGHT * ratio)));
  return (
    <button
      type="button"
      tabIndex={tab}
      onClick={onOpen}
      aria-label={`View ${one.name}`}
      title={`${one.name}, ${one.width} × ${one.height}, ${bytesText(one.bytes)}`}
      className="block max-w-full border border-line bg-shoal"
      style={{ width: width + 2, height: HEIGHT + 2 }}
    >
      {address ? (
        <img src={address} alt={one.name} className="h-full w-full object-contain" />
      ) : (
        <span className="block truncate px-1 text-xs text-faint">{problem || one.name}</span>
      )}
    </button>
  );
}

function FileLine({ message, one, seat, tab }: Each) {
  const [problem, setProblem] = useState("");
  return (
    <span className="flex min-w-0 items-center gap-2">
      <FileIcon size={14} aria-hidden className="shrink-0 text-faint" />
      <button
        type="button"
        tabIndex={tab}
        className="truncate underline"
        onClick={() => fetched(seat, message, one).catch((error: Error) => setProblem(error.message))}
        aria-label={`Fetch ${one.name}`}
      >
        {one.name}
      </button>
      <span className="sounding shrink-0 text-faint">{bytesText(one.bytes)}</span>
      <Download size={12} aria-hidden className="shrink-0 text-faint" />
      {problem && (
        <span role="alert" className="text-buoy">
          {problem}
        </span>
      )}
    </span>
  );
}
