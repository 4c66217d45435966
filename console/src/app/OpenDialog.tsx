import { Dialog } from "radix-ui";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answered } from "../api/client";
import { counted } from "../lib/format";
import { MoreOnScroll } from "./MoreOnScroll";
import { useSeat } from "./seatContext";
import { Button } from "./ui";
import { pageAt, usePages } from "./usePages";

/** Find an open conversation and join it, or read it first. */
export function OpenDialog() {
  const { seat } = useSeat();
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const found = usePages(
    ["open", seat.userId],
    (cursor) => {
      const query = cursor ? pageAt(cursor) : { scope: "open" as const, ...pageAt(cursor) };
      return answered(seat.api.GET("/v1/conversations", { params: { query } }));
    },
    open,
  );

  const go = async (id: string) => {
    setOpen(false);
    await navigate(`/c/${id}`);
  };

  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="border border-line px-2 py-0.5 hover:bg-shoal">Open ones</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/40" />
        <Dialog.Content className="fixed top-[12vh] left-1/2 flex max-h-[70vh] w-[min(30rem,calc(100vw-2rem))] -translate-x-1/2 flex-col border border-line bg-paper p-4">
          <Dialog.Title className="border-b border-line pb-2 font-semibold">Open conversations</Dialog.Title>
          <Dialog.Description className="py-2 text-faint">
            Anyone signed in may read these and join.
          </Dialog.Description>
          <ul className="min-h-0 overflow-y-auto">
            {found.data?.pages.flatMap((page) =>
              page.items.map((one) => (
                <li key={one.id} className="flex items-center gap-2 border-t border-line py-2">
                  <span className="min-w-0 flex-1 truncate">{one.title || one.name || one.id}</span>
                  <span className="sounding text-faint">{counted(one.members, "member")}</span>
                  <Button onClick={() => go(one.id)}>{one.my_role ? "Show" : "Read"}</Button>
                </li>
              )),
            )}
            <MoreOnScroll found={found} />
          </ul>
          {found.error && <p className="text-buoy">{found.error.message}</p>}
          <Dialog.Close asChild>
            <Button className="mt-3 self-end">Close</Button>
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
