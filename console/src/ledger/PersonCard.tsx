import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Popover } from "radix-ui";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answered, Refusal } from "../api/client";
import { Button } from "../app/ui";
import { wordsOf } from "../order/said";
import type { Seat } from "../sync/seat";

const BLOCKED = "/v1/me/blocked/{user_id}" as const;

/** A person's name, which opens a card: write to them, block them. */
export function PersonCard(props: { userId: string; name: string; seat: Seat; tab: number }) {
  const { userId, name, seat, tab } = props;
  const [open, setOpen] = useState(false);
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger tabIndex={tab} className="max-w-full truncate text-left font-medium hover:underline">
        {name}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={4}
          aria-label={name}
          className="z-20 grid w-64 gap-2 border border-line bg-paper p-3 shadow"
        >
          <div>
            <div className="truncate font-semibold">{name}</div>
            <div className="sounding truncate text-faint">{userId}</div>
          </div>
          {userId === seat.userId ? <p className="text-xs text-faint">This is you.</p> : <Acts {...props} />}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function Acts({ userId, seat }: { userId: string; seat: Seat }) {
  const go = useNavigate();
  const queries = useQueryClient();
  const [problem, setProblem] = useState("");
  const key = ["blocked", seat.userId, userId];
  const params = { params: { path: { user_id: userId } } };
  const blocked = useQuery({
    queryKey: key,
    queryFn: () =>
      answered(seat.api.GET(BLOCKED, params)).then(
        () => true,
        (error: unknown) => {
          if (error instanceof Refusal && error.problem.status === 404) return false;
          throw error;
        },
      ),
  });
  const isBlocked = blocked.data ?? false;
  const act = async (work: () => Promise<unknown>) => {
    try {
      await work();
      setProblem("");
    } catch (error) {
      setProblem(wordsOf(error));
    }
    await queries.invalidateQueries({ queryKey: key });
  };
  const toggle = () => answered(isBlocked ? seat.api.DELETE(BLOCKED, params) : seat.api.PUT(BLOCKED, params));
  const write = async () => {
    const made = await answered(
      seat.api.POST("/v1/conversations", {
        body: { kind: "direct", members: [userId], title: "", visibility: "closed" },
      }),
    );
    await seat.list.refresh(made.id);
    await go(`/c/${made.id}`);
  };
  return (
    <>
      <div className="flex gap-2">
        <Button disabled={blocked.data !== false} onClick={() => void act(write)}>
          Write to them
        </Button>
        <Button disabled={blocked.data === undefined} onClick={() => void act(toggle)}>
          {isBlocked ? "Unblock" : "Block"}
        </Button>
      </div>
      <p className="text-xs text-faint">
        {isBlocked
          ? "Blocked: neither of you writes to the other, and they do not add you."
          : "Blocking ends writing between you; they are not told."}
      </p>
      {(problem || blocked.error) && (
        <p role="alert" className="text-xs text-buoy">
          {problem || wordsOf(blocked.error)}
        </p>
      )}
    </>
  );
}
