import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { answered, type Conversation } from "../api/client";
import { useSeat } from "../app/seatContext";
import { Button, field } from "../app/ui";
import { useObservable } from "../app/useObservable";
import { titleOf } from "../lib/format";
import { Invitations } from "./Invitations";
import { INTERVALS, intervalText } from "./interval";
import { KeptOut } from "./KeptOut";
import { wordsOf } from "./said";

/** All that can be set about one conversation, in one place. */
export function SettingsPage() {
  const { seat } = useSeat();
  useObservable(seat);
  const { id = "" } = useParams();
  const shown = useQuery({
    queryKey: ["settings", id, seat.userId],
    queryFn: () =>
      answered(
        seat.api.GET("/v1/conversations/{conversation_id}", { params: { path: { conversation_id: id } } }),
      ),
  });
  const conversation = shown.data;
  return (
    <main className="grid min-h-0 grid-cols-[minmax(0,1fr)] grid-rows-[auto_1fr]">
      <div className="flex items-baseline gap-3 border-b border-line px-3 py-2">
        <h2 className="truncate font-semibold">
          Settings{conversation ? ` of ${titleOf(conversation, seat.profiles)}` : ""}
        </h2>
        <Link to={`/c/${id}`} className="ml-auto text-xs underline">
          Back to the conversation
        </Link>
      </div>
      {shown.error ? (
        <p role="alert" className="p-4 text-buoy">
          {shown.error.message}
        </p>
      ) : conversation ? (
        <div className="min-h-0 overflow-y-auto">
          <Sections conversation={conversation} onChanged={() => void shown.refetch()} />
        </div>
      ) : (
        <p aria-busy className="p-4 text-faint">
          reading
        </p>
      )}
    </main>
  );
}

function Sections({ conversation, onChanged }: { conversation: Conversation; onChanged: () => void }) {
  const role = conversation.my_role;
  const direct = conversation.kind === "direct";
  const rules = !direct && role === "owner";
  const manages = !direct && (role === "owner" || role === "moderator");
  return (
    <div className="grid max-w-3xl grid-cols-[minmax(0,1fr)] gap-6 p-4">
      {rules ? (
        <Fields key={conversation.rev} conversation={conversation} onChanged={onChanged} />
      ) : (
        <p className="text-faint">
          {direct
            ? "The two of a direct conversation have equal rights; nobody sets anything about it."
            : "An owner sets title, name, who may find it, and how often writers post."}
        </p>
      )}
      <Hiding conversation={conversation} onChanged={onChanged} />
      {manages && <Invitations conversation={conversation} />}
      {manages && <KeptOut conversation={conversation} />}
      {rules && <Closing conversation={conversation} />}
    </div>
  );
}

function Fields({ conversation, onChanged }: { conversation: Conversation; onChanged: () => void }) {
  const { seat } = useSeat();
  const [said, setSaid] = useState("");
  const [problem, setProblem] = useState("");
  const save = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "").trim();
    try {
      await answered(
        seat.api.PATCH("/v1/conversations/{conversation_id}", {
          params: { path: { conversation_id: conversation.id } },
          body: {
            title: text("title"),
            name: text("name") || null,
            visibility: form.get("open") ? "open" : "closed",
            post_interval: Number(form.get("interval")) || null,
          },
        }),
      );
      setProblem("");
      setSaid("Saved.");
      await seat.list.refresh(conversation.id);
      onChanged();
    } catch (error) {
      setSaid("");
      setProblem(wordsOf(error));
    }
  };
  return (
    <form onSubmit={(event) => void save(event)} className="grid gap-3" aria-label="What it is called">
      <label className="grid gap-1">
        <span className="text-xs text-faint">Title</span>
        <input name="title" defaultValue={conversation.title} maxLength={200} className={field} />
      </label>
      <label className="grid gap-1">
        <span className="text-xs text-faint">Name, a short handle that is nobody else's</span>
        <input name="name" defaultValue={conversation.name ?? ""} maxLength={80} className={field} />
      </label>
      <label className="flex items-center gap-2">
        <input type="checkbox" name="open" defaultChecked={conversation.visibility === "open"} />
        Anyone signed in may find it, read it and join
      </label>
      <label className="grid gap-1">
        <span className="text-xs text-faint">Slowing down: how often a writer may post</span>
        <select name="interval" defaultValue={conversation.post_interval ?? 0} className={field}>
          {withOwn(conversation.post_interval).map((seconds) => (
            <option key={seconds} value={seconds}>
              {intervalText(seconds)}
            </option>
          ))}
        </select>
      </label>
      <div className="flex items-center gap-3">
        <Button type="submit" strong>
          Save
        </Button>
        <span role="status" className="text-chart">
          {said}
        </span>
      </div>
      {problem && (
        <p role="alert" className="text-buoy">
          {problem}
        </p>
      )}
    </form>
  );
}

const withOwn = (own: number | null | undefined): number[] =>
  own && !INTERVALS.includes(own) ? [...INTERVALS, own].sort((a, b) => a - b) : INTERVALS;

function Hiding({ conversation, onChanged }: { conversation: Conversation; onChanged: () => void }) {
  const { seat } = useSeat();
  if (conversation.my_role === null) return null;
  const hidden = conversation.my_hidden === true;
  const set = async () => {
    await answered(
      seat.api.PATCH("/v1/conversations/{conversation_id}/members/{user_id}", {
        params: { path: { conversation_id: conversation.id, user_id: "me" } },
        body: { hidden: !hidden },
      }),
    );
    await seat.list.refresh(conversation.id);
    onChanged();
  };
  return (
    <section aria-label="Your list" className="flex flex-wrap items-center gap-3 border-t border-line pt-3">
      <Button onClick={() => void set()}>{hidden ? "Show it in my list" : "Hide it from my list"}</Button>
      <span className="text-xs text-faint">
        {hidden ? "It is hidden until its next message." : "It comes back with its next message."}
      </span>
    </section>
  );
}

function Closing({ conversation }: { conversation: Conversation }) {
  const { seat } = useSeat();
  const go = useNavigate();
  const [asked, setAsked] = useState(false);
  const [problem, setProblem] = useState("");
  const close = async () => {
    try {
      await answered(
        seat.api.DELETE("/v1/conversations/{conversation_id}", {
          params: { path: { conversation_id: conversation.id } },
        }),
      );
      await seat.list.refresh(conversation.id);
      await go("/");
    } catch (error) {
      setProblem(wordsOf(error));
    }
  };
  return (
    <section aria-label="Closing" className="border-t border-line pt-3">
      {asked ? (
        <p className="flex flex-wrap items-center gap-2">
          It is gone for everyone, with all that was said, and does not come back.
          <Button strong onClick={() => void close()}>
            Close it for good
          </Button>
          <Button onClick={() => setAsked(false)}>Keep it</Button>
        </p>
      ) : (
        <Button className="text-buoy" onClick={() => setAsked(true)}>
          Close for good…
        </Button>
      )}
      {problem && (
        <p role="alert" className="mt-2 text-buoy">
          {problem}
        </p>
      )}
    </section>
  );
}
