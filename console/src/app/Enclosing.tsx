import { Paperclip, X } from "lucide-react";
import { type ClipboardEvent, useEffect, useRef, useState } from "react";
import { bytesText } from "../lib/format";
import type { Enclosed } from "../sync/outbox";

export const MOST_FILES = 10;

export const enclosed = (files: Iterable<File>): Enclosed[] =>
  [...files].map((file) => ({ name: file.name || "file", content: file, attachment: null }));

/** Files that are about to go with a message: chosen, dropped or pasted. */
export function useEnclosing() {
  const [files, setFiles] = useState<Enclosed[]>([]);
  const [said, setSaid] = useState("");
  const add = (more: Iterable<File>) => {
    const all = [...files, ...enclosed(more)];
    setSaid(all.length > MOST_FILES ? `A message takes ${MOST_FILES} files; the rest was left out.` : "");
    setFiles(all.slice(0, MOST_FILES));
  };
  return {
    files,
    said,
    add,
    /** Have these again, before what was added since. */
    restore: (before: Enclosed[]) => setFiles((now) => [...before, ...now].slice(0, MOST_FILES)),
    drop: (n: number) => setFiles(files.filter((_, place) => place !== n)),
    clear: () => {
      setFiles([]);
      setSaid("");
    },
    /** Takes pasted files; true if there were some. */
    paste: (event: ClipboardEvent): boolean => {
      if (event.clipboardData.files.length === 0) return false;
      event.preventDefault();
      add(event.clipboardData.files);
      return true;
    },
  };
}

type Enclosing = ReturnType<typeof useEnclosing>;

/** What will be sent, each to be left out again. */
export function EnclosedList({ enclosing }: { enclosing: Enclosing }) {
  const { files, said, drop } = enclosing;
  return (
    <>
      {files.length > 0 && (
        <ul aria-label="Files to send" className="flex flex-wrap gap-2 px-3 pt-2">
          {files.map((one, n) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: two files may be the same
            <li key={n} className="flex max-w-full items-center gap-2 border border-line px-2 py-0.5">
              <span className="truncate">{one.name}</span>
              <span className="sounding shrink-0 text-faint">{bytesText(one.content.size)}</span>
              <button type="button" onClick={() => drop(n)} aria-label={`Leave out ${one.name}`}>
                <X size={12} aria-hidden />
              </button>
            </li>
          ))}
        </ul>
      )}
      {said && (
        <p role="alert" className="px-3 pt-1 text-buoy">
          {said}
        </p>
      )}
    </>
  );
}

/** Opens the browser's own choice of files. */
export function ChooseFiles({ enclosing }: { enclosing: Enclosing }) {
  const input = useRef<HTMLInputElement>(null);
  return (
    <>
      <input
        ref={input}
        type="file"
        multiple
        hidden
        aria-label="Files to send"
        onChange={(event) => {
          enclosing.add(event.target.files ?? []);
          event.target.value = "";
        }}
      />
      <button
        type="button"
        className="border border-line p-1.5 hover:bg-shoal"
        aria-label="Choose files"
        title="Choose files, or drop or paste them"
        onClick={() => input.current?.click()}
      >
        <Paperclip size={16} aria-hidden />
      </button>
    </>
  );
}

/** Takes files that are dropped anywhere on the page, which would otherwise show them in its own place; whether some are
 * held over it. */
export function useDropped(add: (files: FileList) => void): boolean {
  const [over, setOver] = useState(false);
  const taking = useRef(add);
  taking.current = add;
  useEffect(() => {
    const carries = (event: DragEvent) => event.dataTransfer?.types.includes("Files") ?? false;
    const onOver = (event: DragEvent) => {
      if (!carries(event)) return;
      event.preventDefault();
      setOver(true);
    };
    const onLeave = (event: DragEvent) => event.relatedTarget === null && setOver(false);
    const onDrop = (event: DragEvent) => {
      if (!carries(event)) return;
      event.preventDefault();
      setOver(false);
      if (event.dataTransfer) taking.current(event.dataTransfer.files);
    };
    document.addEventListener("dragover", onOver);
    document.addEventListener("dragleave", onLeave);
    document.addEventListener("drop", onDrop);
    return () => {
      document.removeEventListener("dragover", onOver);
      document.removeEventListener("dragleave", onLeave);
      document.removeEventListener("drop", onDrop);
    };
  }, []);
  return over;
}
