import { Bell, BellOff } from "lucide-react";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { answered, type Conversation } from "../api/client";
import { useSeat } from "../app/seatContext";
import { Button } from "../app/ui";
import { abilityOf, tellHere, tellNoMore } from "./device";
import { isQuiet, tomorrowMorning } from "./morning";

const MEMBER = "/v1/conversations/{conversation_id}/members/{user_id}" as const;
const CHOICES = [
  ["all", "Everything"],
  ["mentions", "What names me"],
  ["none", "Nothing"],
] as const;
const HERE = {
  told: "This browser tells you, also with the console closed.",
  "may be asked": "This browser does not tell you yet.",
  refused: "This browser does not let the console notify you; its settings for this site can change that.",
  cannot: "This browser cannot be told.",
};

/** What one is told of while one is not here, and whether by this browser. */
export function NoticesDialog({
  conversation,
  onChanged,
}: {
  conversation: Conversation;
  onChanged: () => void;
}) {
  const quiet = isQuiet(conversation.my_notify_after, Date.now());
  const off = quiet || conversation.my_notify === "none";
  const Mark = off ? BellOff : Bell;
  return (
    <Dialog.Root>
      <Dialog.Trigger
        aria-label="Notices"
        title={off ? "Notices: nothing for now" : "Notices"}
        className="self-center text-faint hover:text-ink"
      >
        <Mark size={14} aria-hidden />
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/40" />
        <Dialog.Content className="fixed top-[10vh] left-1/2 grid w-[min(30rem,calc(100vw-2rem))] -translate-x-1/2 gap-4 border border-line bg-paper p-4">
          <div className="border-b border-line pb-2">
            <Dialog.Title className="font-semibold">Notices</Dialog.Title>
            <Dialog.Description className="text-xs text-faint">
              What you are told of here while you are away. Nobody else sees it.
            </Dialog.Description>
          </div>
          <Wanted conversation={conversation} onChanged={onChanged} />
          <Here />
          <Dialog.Close asChild>
            <Button className="justify-self-end">Close</Button>
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Wanted({ conversation, onChanged }: { conversation: Conversation; onChanged: () => void }) {
  const { seat } = useSeat();
  const [problem, setProblem] = useState("");
  const after = conversation.my_notify_after;
  const quiet = isQuiet(after, Date.now());
  const prefer = async (body: { notify?: "all" | "mentions" | "none"; notify_after?: string | null }) => {
    try {
      const path = { conversation_id: conversation.id, user_id: "me" };
      await answered(seat.api.PATCH(MEMBER, { params: { path }, body }));
      await seat.list.refresh(conversation.id);
      setProblem("");
      onChanged();
    } catch (error) {
      setProblem(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <>
      <fieldset className="grid gap-1">
        <legend className="pb-1 text-xs text-faint">Tell me of</legend>
        {CHOICES.map(([value, words]) => (
          <label key={value} className="flex items-center gap-2">
            <input
              type="radio"
              name="notify"
              checked={conversation.my_notify === value}
              onChange={() => void prefer({ notify: value })}
            />
            {words}
          </label>
        ))}
      </fieldset>
      <div className="flex flex-wrap items-center gap-3">
        {quiet ? (
          <>
            <span>
              Nothing until{" "}
              <span className="sounding">
                {new Date(after ?? 0).toLocaleString([], {
                  weekday: "short",
                  hour: "2-digit",
                  minute: "2-digit",
                  hourCycle: "h23",
                })}
              </span>
              .
            </span>
            <Button onClick={() => void prefer({ notify_after: null })}>From now on again</Button>
          </>
        ) : (
          <Button onClick={() => void prefer({ notify_after: tomorrowMorning(new Date()).toISOString() })}>
            Nothing until tomorrow morning
          </Button>
        )}
      </div>
      {problem && (
        <p role="alert" className="text-buoy">
          {problem}
        </p>
      )}
    </>
  );
}

function Here() {
  const { seat } = useSeat();
  const [ability, setAbility] = useState(abilityOf(seat.userId));
  const [problem, setProblem] = useState("");
  const [busy, setBusy] = useState(false);
  const act = async (work: Promise<void>) => {
    setBusy(true);
    try {
      await work;
      setProblem("");
    } catch (error) {
      setProblem(error instanceof Error ? error.message : String(error));
    }
    setBusy(false);
    setAbility(abilityOf(seat.userId));
  };
  return (
    <section aria-label="This browser" className="grid gap-2 border-t border-line pt-3">
      <p className={ability === "told" ? "text-chart" : ""}>{HERE[ability]}</p>
      {ability === "may be asked" && (
        <Button
          strong
          className="justify-self-start"
          disabled={busy}
          onClick={() => void act(tellHere(seat))}
        >
          Tell me in this browser
        </Button>
      )}
      {ability === "told" && (
        <Button className="justify-self-start" disabled={busy} onClick={() => void act(tellNoMore(seat))}>
          Not in this browser any more
        </Button>
      )}
      {problem && (
        <p role="alert" className="text-buoy">
          {problem}
        </p>
      )}
    </section>
  );
}
