import { ChevronLeft, ChevronRight, X } from "lucide-react";
import { Dialog } from "radix-ui";
import { type KeyboardEvent, useState } from "react";
import type { Attachment, Message } from "../api/client";
import { Button } from "../app/ui";
import { bytesText } from "../lib/format";
import type { Seat } from "../sync/seat";
import { fetched } from "./fetched";
import { usePicture } from "./usePicture";

type Props = {
  message: Message;
  pictures: Attachment[];
  seat: Seat;
  at: number;
  onMove: (at: number) => void;
  onClose: () => void;
};

/** One picture of a message, large: the arrows go to the next, F fetches the file, Escape goes back. */
export function Viewer({ message, pictures, seat, at, onMove, onClose }: Props) {
  const one = pictures[at] as Attachment;
  const [said, setSaid] = useState("");
  const move = (by: number) => {
    setSaid("");
    onMove((at + by + pictures.length) % pictures.length);
  };
  const fetch = () => void fetched(seat, message, one).catch((error: Error) => setSaid(error.message));
  const onKeyDown = (event: KeyboardEvent) => {
    event.stopPropagation(); // the ledger behind it moves by the same keys
    if (event.key === "ArrowRight") move(1);
    else if (event.key === "ArrowLeft") move(-1);
    else if (event.key.toLowerCase() === "f" && !event.ctrlKey && !event.metaKey) fetch();
    else return;
    event.preventDefault();
  };
  return (
    <Dialog.Root open onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-ink/60" />
        <Dialog.Content
          aria-describedby={undefined}
          onKeyDown={onKeyDown}
          className="fixed inset-4 z-30 grid grid-rows-[auto_1fr_auto] border border-line bg-paper"
        >
          <header className="flex items-center gap-3 border-b border-line px-3 py-2">
            <Dialog.Title className="truncate font-semibold">{one.name}</Dialog.Title>
            <span className="sounding hidden shrink-0 text-faint sm:inline">
              {one.width} × {one.height}, {bytesText(one.bytes)}, message {message.seq}
            </span>
            <Dialog.Close aria-label="Close" title="Close (Escape)" className="ml-auto p-1 hover:bg-shoal">
              <X size={16} aria-hidden />
            </Dialog.Close>
          </header>
          <Large key={one.attachment_id} {...{ message, one, seat }} />
          <footer className="flex items-center gap-2 border-t border-line px-3 py-2">
            {pictures.length > 1 && (
              <>
                <Button onClick={() => move(-1)} aria-label="The picture before" title="Left arrow">
                  <ChevronLeft size={14} aria-hidden />
                </Button>
                <span className="sounding text-faint">
                  {at + 1} of {pictures.length}
                </span>
                <Button onClick={() => move(1)} aria-label="The next picture" title="Right arrow">
                  <ChevronRight size={14} aria-hidden />
                </Button>
              </>
            )}
            {said && (
              <span role="alert" className="text-buoy">
                {said}
              </span>
            )}
            <Button className="ml-auto" onClick={fetch} title="Fetch the file as it was sent (F)">
              Fetch the file
            </Button>
          </footer>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Large({ message, one, seat }: { message: Message; one: Attachment; seat: Seat }) {
  const { address, problem } = usePicture(seat, {
    conversation: message.conversation_id,
    seq: message.seq,
    attachment: one.attachment_id,
    width: 960,
  });
  return (
    <div className="grid min-h-0 place-items-center overflow-hidden bg-shoal p-2">
      {address ? (
        <img src={address} alt={one.name} className="max-h-full max-w-full object-contain" />
      ) : (
        <p className="text-faint" role="status">
          {problem || "fetching"}
        </p>
      )}
    </div>
  );
}
