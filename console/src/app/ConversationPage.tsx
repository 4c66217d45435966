import { useQuery } from "@tanstack/react-query";
import { ArrowLeft, Settings } from "lucide-react";
import { useEffect, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { answered, type Conversation } from "../api/client";
import { Ledger } from "../ledger/Ledger";
import { counted, titleOf, visibilityText } from "../lib/format";
import { rightsOf } from "../lib/rights";
import { storageWords } from "../lib/storage";
import { NoticesDialog } from "../notices/NoticesDialog";
import { useLooking } from "../notices/useLooking";
import { intervalText } from "../order/interval";
import type { ConversationCopy } from "../sync/conversationCopy";
import { Composer } from "./Composer";
import { MembersDialog } from "./MembersDialog";
import { arrive, recallPlace, rememberConversation } from "./reading";
import { useSeat } from "./seatContext";
import { Button } from "./ui";
import { useObservable } from "./useObservable";
import { Writing } from "./Writing";

export function ConversationPage() {
  const { id = "" } = useParams();
  const [query] = useSearchParams();
  // Whoever comes by a hit begins at its number, also where the conversation is shown already.
  return <Conversing key={`${id} ${query.get("at")}`} id={id} />;
}

function Conversing({ id }: { id: string }) {
  const { seat } = useSeat();
  useObservable(seat);
  useState(() => arrive(seat.userId, id));
  const [copy, setCopy] = useState<ConversationCopy | null>(null);
  const [problem, setProblem] = useState("");
  const live = useObservable(seat.line).state === "live";
  useLooking(seat, id, live);
  const mine = seat.list.conversations.find((one) => one.id === id);
  const shown = useQuery({
    queryKey: ["conversation", id, seat.userId],
    queryFn: () =>
      answered(
        seat.api.GET("/v1/conversations/{conversation_id}", { params: { path: { conversation_id: id } } }),
      ),
    enabled: seat.list.listed && !mine,
  });
  const conversation: Conversation | undefined = mine ?? shown.data;

  // What could not be opened with the line away is opened when it is back.
  const opened = copy !== null;
  const [tries, setTries] = useState(0);
  // biome-ignore lint/correctness/useExhaustiveDependencies: a line that comes back is what this reacts to
  useEffect(() => {
    if (opened) return;
    let here = true;
    seat.pages.open(id, recallPlace(seat.userId, id).seq).then(
      (found) => {
        if (!here) return;
        rememberConversation(seat.userId, id);
        setProblem("");
        setCopy(found);
      },
      (error: unknown) => here && setProblem(storageWords(error)),
    );
    return () => {
      here = false;
    };
  }, [seat, id, opened, live, tries]);

  if (problem)
    return (
      <main className="p-6">
        <p role="alert" className="text-buoy">
          {problem}
        </p>
        <p className="mt-2 flex items-baseline gap-4">
          <Button onClick={() => setTries(tries + 1)}>Try again</Button>
          <Link to="/" className="underline">
            Back to the list
          </Link>
        </p>
      </main>
    );
  return (
    <main className="grid h-full grid-cols-[minmax(0,1fr)] grid-rows-[auto_1fr_auto_auto]">
      <Heading conversation={conversation} onChanged={() => void shown.refetch()} />
      {copy ? (
        <Ledger copy={copy} seat={seat} />
      ) : (
        <div aria-busy className="p-4 text-faint">
          reading
        </div>
      )}
      {copy && <Writing copy={copy} seat={seat} />}
      {conversation && <Foot conversation={conversation} copy={copy} onJoined={() => void shown.refetch()} />}
    </main>
  );
}

function Heading(props: { conversation: Conversation | undefined; onChanged: () => void }) {
  const { conversation, onChanged } = props;
  const { seat } = useSeat();
  return (
    <header className="flex items-baseline gap-3 border-b border-line px-3 py-2">
      <Link to="/" aria-label="Back to the list" className="self-center md:hidden">
        <ArrowLeft size={16} aria-hidden />
      </Link>
      <h2 className="truncate font-semibold">{conversation ? titleOf(conversation, seat.profiles) : "…"}</h2>
      {conversation && (
        <>
          {conversation.name && (
            <span className="sounding hidden truncate text-faint sm:inline">{conversation.name}</span>
          )}
          <span className="hidden text-xs text-faint sm:inline">
            {conversation.kind}, {visibilityText(conversation)}
            {conversation.my_role ? `, you are ${conversation.my_role}` : ""}
          </span>
          <span className="sounding ml-auto shrink-0 whitespace-nowrap text-faint">
            {counted(conversation.message_count, "message")}
            <span className="hidden sm:inline"> kept</span>
          </span>
          <MembersDialog conversation={conversation} />
          {conversation.my_role && <NoticesDialog conversation={conversation} onChanged={onChanged} />}
          <Link
            to={`/settings/${conversation.id}`}
            aria-label="Settings"
            title="Settings"
            className="self-center text-faint hover:text-ink"
          >
            <Settings size={14} aria-hidden />
          </Link>
        </>
      )}
    </header>
  );
}

function Foot(props: { conversation: Conversation; copy: ConversationCopy | null; onJoined: () => void }) {
  const { conversation, copy, onJoined } = props;
  const { seat } = useSeat();
  const { my_role: role, kind } = conversation;
  if (role === null) {
    const join = async () => {
      const params = { path: { conversation_id: conversation.id, user_id: "me" } };
      await answered(
        seat.api.PUT("/v1/conversations/{conversation_id}/members/{user_id}", { params, body: {} }),
      );
      await seat.list.refresh(conversation.id);
      onJoined();
    };
    return (
      <div className="flex items-center gap-3 border-t border-line px-3 py-2">
        <span className="text-faint">You read this one as a guest.</span>
        <Button strong onClick={() => void join()}>
          Join
        </Button>
      </div>
    );
  }
  if (!rightsOf(kind, role).post)
    return (
      <p className="border-t border-line px-3 py-2 text-faint">
        {kind === "bulletin" ? "Owners and moderators write here." : "You read here."}
      </p>
    );
  return (
    copy && (
      <>
        {conversation.post_interval && role === "writer" ? (
          <p className="border-t border-line px-3 pt-1 text-xs text-faint">
            Slowed down: you post {intervalText(conversation.post_interval)}.
          </p>
        ) : null}
        <Composer copy={copy} />
      </>
    )
  );
}
