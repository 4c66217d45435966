import { type FormEvent, useState } from "react";
import { answered, type Conversation, type Profile } from "../api/client";
import { MoreOnScroll } from "../app/MoreOnScroll";
import { PersonField } from "../app/PersonField";
import { useSeat } from "../app/seatContext";
import { Button, field } from "../app/ui";
import { pageAt, usePages } from "../app/usePages";
import { exactTime, shortTime } from "../lib/format";
import { wordsOf } from "./said";

const HERE = "/v1/conversations/{conversation_id}/kept-out/{user_id}" as const;

/** Who is kept out; keep somebody out, let somebody in. */
export function KeptOut({ conversation }: { conversation: Conversation }) {
  const { seat } = useSeat();
  const [chosen, setChosen] = useState<Profile[]>([]);
  const [problem, setProblem] = useState("");
  const path = { conversation_id: conversation.id };
  const found = usePages(["kept out", conversation.id, seat.userId], (cursor) =>
    answered(
      seat.api.GET("/v1/conversations/{conversation_id}/kept-out", {
        params: { path, query: pageAt(cursor) },
      }),
    ),
  );
  const pages = found.data?.pages ?? [];
  const act = async (work: Promise<unknown>) => {
    try {
      await work;
      setProblem("");
      setChosen([]);
    } catch (error) {
      setProblem(wordsOf(error));
    }
    await found.refetch();
  };
  const one = (userId: string) => ({ params: { path: { ...path, user_id: userId } } });
  const keep = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const reason = String(new FormData(event.currentTarget).get("reason") ?? "").trim();
    event.currentTarget.reset();
    const body = reason ? { reason } : {};
    void act(
      Promise.all(chosen.map(({ user_id }) => answered(seat.api.PUT(HERE, { ...one(user_id), body })))),
    );
  };
  return (
    <section aria-labelledby="kept-out" className="border-t border-line pt-3">
      <h3 id="kept-out" className="font-semibold">
        Kept out
      </h3>
      {pages[0]?.items.length === 0 && <p className="text-faint">Nobody is kept out.</p>}
      <ul className="max-h-80 overflow-y-auto">
        {pages.flatMap((page) =>
          page.items.map((kept) => (
            <li key={kept.user_id} className="flex items-center gap-3 border-b border-line py-1">
              <span className="min-w-0 flex-1 truncate">
                {page.profiles[kept.user_id]?.display_name ?? kept.user_id}
                {kept.reason && <span className="text-faint">: {kept.reason}</span>}
              </span>
              <span className="sounding text-faint" title={exactTime(kept.kept_out_at)}>
                {kept.until ? `until ${shortTime(kept.until)}` : "for good"}
              </span>
              <Button onClick={() => void act(answered(seat.api.DELETE(HERE, one(kept.user_id))))}>
                Let in
              </Button>
            </li>
          )),
        )}
        <MoreOnScroll found={found} />
      </ul>
      <form onSubmit={keep} className="mt-2 grid items-end gap-2 sm:grid-cols-[1fr_1fr_auto]">
        <PersonField id="kept-out-add" label="People to keep out" chosen={chosen} onChange={setChosen} />
        <input
          name="reason"
          maxLength={1000}
          placeholder="Why, if you like"
          aria-label="Why"
          className={field}
        />
        <Button type="submit" disabled={chosen.length === 0}>
          Keep out
        </Button>
      </form>
      {(problem || found.error) && (
        <p role="alert" className="mt-2 text-buoy">
          {problem || found.error?.message}
        </p>
      )}
    </section>
  );
}
