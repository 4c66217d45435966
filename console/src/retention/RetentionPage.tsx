import { useQuery } from "@tanstack/react-query";
import { useNavigate, useParams } from "react-router";
import type { Conversation } from "../api/client";
import { recallConversation } from "../app/reading";
import { useSeat } from "../app/seatContext";
import { field } from "../app/ui";
import { useObservable } from "../app/useObservable";
import { count, counted, titleOf } from "../lib/format";
import { Archive } from "./Archive";
import { ruleOf } from "./query";
import { RuleForm } from "./RuleForm";
import { wordsOf } from "./rule";

/** What a conversation keeps: its rule, what another would take, and what has gone to the archive. */
export default function RetentionPage() {
  const { seat } = useSeat();
  useObservable(seat);
  const { id } = useParams();
  const go = useNavigate();
  const last = recallConversation(seat.userId);
  const all = seat.list.conversations;
  const chosen = all.find((one) => one.id === id) ?? all.find((one) => one.id === last) ?? all[0];

  return (
    <main className="grid min-h-0 grid-cols-[minmax(0,1fr)] grid-rows-[auto_1fr]">
      <div className="flex flex-wrap items-center gap-3 border-b border-line px-3 py-2">
        <h2 className="font-semibold">Retention</h2>
        <label className="flex min-w-0 items-center gap-2">
          <span className="text-faint">of</span>
          <select
            className={`${field} max-w-[50vw]`}
            value={chosen?.id ?? ""}
            onChange={(event) => void go(`/retention/${event.target.value}`)}
          >
            {all.map((one) => (
              <option key={one.id} value={one.id}>
                {titleOf(one, seat.profiles)}
              </option>
            ))}
          </select>
        </label>
        {chosen && (
          <span className="sounding text-faint">
            {counted(chosen.message_count, "message")} kept, floor {count(chosen.floor)}, head{" "}
            {count(chosen.head)}
          </span>
        )}
      </div>
      {chosen ? (
        <Of key={chosen.id} conversation={chosen} />
      ) : (
        <p className="p-4 text-faint">{seat.list.listed ? "You are in no conversation yet." : "reading"}</p>
      )}
    </main>
  );
}

function Of({ conversation }: { conversation: Conversation }) {
  const { seat } = useSeat();
  const rule = useQuery(ruleOf(seat, conversation.id));
  if (rule.error)
    return (
      <p role="alert" className="p-4 text-buoy">
        {rule.error.message}
      </p>
    );
  if (!rule.data)
    return (
      <p aria-busy className="p-4 text-faint">
        reading
      </p>
    );
  if (conversation.my_role !== "owner")
    return (
      <div className="p-4">
        <p>{wordsOf(rule.data)}</p>
        <p className="mt-2 text-faint">An owner sets the rule and reads the archive.</p>
      </div>
    );
  const changed = () => void Promise.all([rule.refetch(), seat.list.refresh(conversation.id)]);
  return (
    <div className="min-h-0 overflow-y-auto">
      <RuleForm conversation={conversation} rule={rule.data} onChanged={changed} />
      <Archive conversation={conversation} />
    </div>
  );
}
