import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useDeferredValue, useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { answered } from "../api/client";
import { titleOf } from "../lib/format";
import { matching } from "../lib/mentions";
import { type Choice, useChoices } from "./Choices";
import { rememberPlace } from "./reading";
import { useSeat } from "./seatContext";
import { field } from "./ui";

const OF_EACH = 5;
const ABOVE = 3;

/** Ctrl+K, or Cmd+K: go to a conversation, a person or a message by a few letters. */
export function Finder() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() !== "k" || !(event.ctrlKey || event.metaKey) || event.altKey) return;
      event.preventDefault();
      setOpen((before) => !before);
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/40" />
        <Dialog.Content className="fixed top-[12vh] left-1/2 w-[min(36rem,calc(100vw-2rem))] -translate-x-1/2 border border-line bg-paper p-3">
          <Dialog.Title className="sr-only">Go to</Dialog.Title>
          <Dialog.Description className="sr-only">
            Type to find a conversation, a person or a message; Enter goes there.
          </Dialog.Description>
          <Finding done={() => setOpen(false)} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Finding({ done }: { done: () => void }) {
  const { seat } = useSeat();
  const navigate = useNavigate();
  const [text, setText] = useState("");
  const [problem, setProblem] = useState("");
  const sought = useDeferredValue(text.trim());
  const conversations = matching(
    seat.list.conversations.map((one) => ({
      userId: one.id,
      name: `${titleOf(one, seat.profiles)} ${one.name ?? ""}`.trim(),
    })),
    sought,
    OF_EACH,
  );
  const people = useQuery({
    queryKey: ["people", sought, seat.userId],
    queryFn: () =>
      answered(seat.api.GET("/v1/people", { params: { query: { q: sought, limit: OF_EACH + 1 } } })),
    enabled: sought !== "",
  });
  const hits = useQuery({
    queryKey: ["hits", sought, seat.userId],
    queryFn: () => answered(seat.api.GET("/v1/search", { params: { query: { q: sought, limit: OF_EACH } } })),
    enabled: [...sought].length > 1,
    retry: false,
  });

  const title = (id: string): string => {
    const listed = seat.list.conversations.find((one) => one.id === id);
    return listed ? titleOf(listed, seat.profiles) : id;
  };
  const choices: Choice[] = conversations.map((one) => ({
    key: `c ${one.userId}`,
    label: title(one.userId),
    detail: "conversation",
  }));
  if (sought) {
    for (const one of (people.data?.items ?? []).filter((person) => person.user_id !== seat.userId))
      choices.push({ key: `p ${one.user_id}`, label: one.display_name, detail: "person" });
    for (const { message } of hits.data?.items ?? [])
      choices.push({
        key: `m ${message.conversation_id} ${message.seq}`,
        label: message.body,
        detail: `${title(message.conversation_id)} ${message.seq}`,
      });
    choices.push({ key: "s", label: `Search messages for ${sought}` });
  }

  const go = async (key: string) => {
    const [kind, id = "", seq = ""] = key.split(" ");
    try {
      let to = `/search?q=${encodeURIComponent(sought)}`;
      if (kind === "p") {
        const body = {
          kind: "direct" as const,
          members: [key.slice(2)],
          title: "",
          visibility: "closed" as const,
        };
        const made = await answered(seat.api.POST("/v1/conversations", { body }));
        await seat.list.refresh(made.id);
        to = `/c/${made.id}`;
      } else if (kind === "m") {
        rememberPlace(seat.userId, id, { seq: Math.max(1, Number(seq) - ABOVE) });
        to = `/c/${id}?at=${seq}`;
      } else if (kind === "c") to = `/c/${id}`;
      done();
      await navigate(to);
    } catch (error) {
      setProblem(error instanceof Error ? error.message : String(error));
    }
  };
  const { field: speaks, onKey, list } = useChoices(choices, (key) => void go(key), done, "Where to");

  return (
    <div className="[&>[role=listbox]]:static [&>[role=listbox]]:mt-2 [&>[role=listbox]]:max-h-[55vh] [&>[role=listbox]]:max-w-none [&>[role=listbox]]:shadow-none">
      <input
        {...speaks}
        value={text}
        onChange={(event) => setText(event.target.value)}
        onKeyDown={onKey}
        autoComplete="off"
        aria-label="Go to"
        placeholder="A conversation, a person, or what was said"
        className={`${field} text-base`}
      />
      {problem && (
        <p role="alert" className="mt-2 text-buoy">
          {problem}
        </p>
      )}
      {list}
    </div>
  );
}
