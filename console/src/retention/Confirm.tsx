import { AlertDialog } from "radix-ui";
import { Button } from "../app/ui";
import { bytesText, count, counted, exactTime } from "../lib/format";
import type { Preview } from "./rule";

/** Before a rule takes something away: what, and whether to go ahead. */
export function Confirm(props: {
  preview: Preview;
  fate: "archive" | "discard";
  onYes: () => void;
  onNo: () => void;
}) {
  const { preview, fate, onYes, onNo } = props;
  const words =
    fate === "archive" ? "They go to the archive." : "They are discarded, and nothing brings them back.";
  return (
    <AlertDialog.Root open onOpenChange={(open) => !open && onNo()}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 bg-black/40" />
        <AlertDialog.Content className="fixed top-[20vh] left-1/2 w-[min(28rem,calc(100vw-2rem))] -translate-x-1/2 border border-line bg-paper p-4">
          <AlertDialog.Title className="border-b border-line pb-2 font-semibold">
            {counted(preview.expires, "message")} {preview.expires === 1 ? "goes" : "go"} at once
          </AlertDialog.Title>
          <AlertDialog.Description className="py-3">
            Numbers {count(preview.first_seq ?? 0)} to {count(preview.last_seq ?? 0)},{" "}
            {bytesText(preview.bytes)}
            {preview.first_at && preview.last_at
              ? `, written from ${exactTime(preview.first_at)} to ${exactTime(preview.last_at)}`
              : ""}
            . From then on nobody reads them here. {words}
          </AlertDialog.Description>
          <div className="flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Leave it</Button>
            </AlertDialog.Cancel>
            <AlertDialog.Action asChild>
              <Button strong onClick={onYes}>
                Go ahead
              </Button>
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
