import { Dialog } from "radix-ui";
import { type FormEvent, useEffect, useState } from "react";
import { answered, type Conversation, type Member, type Profile } from "../api/client";
import { counted } from "../lib/format";
import { INTERVALS, intervalText } from "../order/interval";
import { Inviting } from "./Inviting";
import { MoreOnScroll } from "./MoreOnScroll";
import { PersonField } from "./PersonField";
import { useSeat } from "./seatContext";
import { Button } from "./ui";
import { pageAt, usePages } from "./usePages";

const KEPT_OUT = "/v1/conversations/{conversation_id}/kept-out/{user_id}" as const;
const ROLES: Member["role"][] = ["owner", "moderator", "writer", "reader"];

/** Who is in the conversation, with roles; add, change and remove as one's own role allows. */
export function MembersDialog({ conversation }: { conversation: Conversation }) {
  const { seat } = useSeat();
  const [open, setOpen] = useState(false);
  const [problem, setProblem] = useState("");
  const [chosen, setChosen] = useState<Profile[]>([]);
  const path = { conversation_id: conversation.id };
  const members = usePages(
    ["members", conversation.id, seat.userId],
    (cursor) =>
      answered(
        seat.api.GET("/v1/conversations/{conversation_id}/members", {
          params: { path, query: pageAt(cursor) },
        }),
      ),
    open,
  );
  const { refetch } = members;
  // biome-ignore lint/correctness/useExhaustiveDependencies: somebody who comes or leaves is what this reacts to
  useEffect(() => {
    if (open) void refetch();
  }, [open, refetch, conversation.members]);
  const role = conversation.my_role;
  const manages = conversation.kind !== "direct" && (role === "owner" || role === "moderator");

  const act = async (work: Promise<unknown>) => {
    try {
      await work;
      setProblem("");
    } catch (error) {
      setProblem(error instanceof Error ? error.message : String(error));
    }
    await Promise.all([members.refetch(), seat.list.refresh(conversation.id)]);
  };
  const one = (userId: string) => ({ params: { path: { ...path, user_id: userId } } });
  const address = "/v1/conversations/{conversation_id}/members/{user_id}" as const;

  const add = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const people = chosen;
    setChosen([]);
    void act(
      Promise.all(
        people.map(({ user_id }) => answered(seat.api.PUT(address, { ...one(user_id), body: {} }))),
      ),
    );
  };

  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="text-xs whitespace-nowrap underline">
        {counted(conversation.members, "member")}
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/40" />
        <Dialog.Content className="fixed top-[10vh] left-1/2 flex max-h-[76vh] w-[min(40rem,calc(100vw-2rem))] -translate-x-1/2 flex-col border border-line bg-paper p-4">
          <Dialog.Title className="border-b border-line pb-2 font-semibold">Members</Dialog.Title>
          <Dialog.Description className="sr-only">
            Members, their roles and how far each has read.
          </Dialog.Description>
          <ul className="min-h-0 overflow-y-auto">
            {members.data?.pages.flatMap((page) =>
              page.items.map((member) => (
                <li key={member.user_id} className="flex items-center gap-2 border-b border-line py-1">
                  <span className="min-w-0 flex-1 truncate">
                    {page.profiles[member.user_id]?.display_name ?? member.user_id}{" "}
                    <span className="sounding text-faint">{member.user_id}</span>
                  </span>
                  <span className="sounding text-faint" title="has read up to">
                    {member.read_seq}
                  </span>
                  {manages ? (
                    <select
                      aria-label={`role of ${member.user_id}`}
                      value={member.role}
                      onChange={(event) => {
                        const body = { role: event.target.value as Member["role"] };
                        void act(answered(seat.api.PATCH(address, { ...one(member.user_id), body })));
                      }}
                      className="border border-line bg-paper"
                    >
                      {ROLES.map((name) => (
                        <option key={name}>{name}</option>
                      ))}
                    </select>
                  ) : (
                    <span className="text-faint">{member.role}</span>
                  )}
                  {manages && member.user_id !== seat.userId && (
                    <>
                      <Button
                        onClick={() => void act(answered(seat.api.DELETE(address, one(member.user_id))))}
                      >
                        Remove
                      </Button>
                      <Button
                        title="Remove them, and keep them out"
                        onClick={() => void act(answered(seat.api.PUT(KEPT_OUT, one(member.user_id))))}
                      >
                        Keep out
                      </Button>
                    </>
                  )}
                </li>
              )),
            )}
            <MoreOnScroll found={members} />
          </ul>
          {manages && (
            <form onSubmit={add} className="mt-3 flex gap-2">
              <PersonField id="members-add" label="People to add" chosen={chosen} onChange={setChosen} />
              <Button type="submit" disabled={chosen.length === 0} className="self-end">
                Add
              </Button>
            </form>
          )}
          {role === "owner" && conversation.kind !== "direct" && (
            <label className="mt-3 flex items-center gap-2 border-t border-line pt-3">
              Writers post
              <select
                value={conversation.post_interval ?? 0}
                onChange={(event) => {
                  const body = { post_interval: Number(event.target.value) || null };
                  void act(
                    answered(
                      seat.api.PATCH("/v1/conversations/{conversation_id}", { params: { path }, body }),
                    ),
                  );
                }}
                className="border border-line bg-paper"
              >
                {INTERVALS.map((seconds) => (
                  <option key={seconds} value={seconds}>
                    {intervalText(seconds)}
                  </option>
                ))}
              </select>
            </label>
          )}
          {manages && (
            <div className="mt-3 border-t border-line">
              <Inviting conversation={conversation} />
            </div>
          )}
          {(problem || members.error) && (
            <p role="alert" className="mt-2 text-buoy">
              {problem || members.error?.message}
            </p>
          )}
          <div className="mt-3 flex justify-end gap-2">
            {role && conversation.kind !== "direct" && (
              <Button onClick={() => void act(answered(seat.api.DELETE(address, one("me"))))}>Leave</Button>
            )}
            <Dialog.Close asChild>
              <Button>Close</Button>
            </Dialog.Close>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
