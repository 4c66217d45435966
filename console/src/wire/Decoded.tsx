import { useState } from "react";
import type { ChangeSet } from "../api/client";
import { Button } from "../app/ui";
import { count } from "../lib/format";
import type { Passed } from "../sync/wireLog";

/** One frame or answer: its change sets as rows, and all of it as it was. */
export function Decoded({ one, onClose }: { one: Passed; onClose: () => void }) {
  const [copied, setCopied] = useState(false);
  const text = typeof one.content === "string" ? one.content : JSON.stringify(one.content, null, 2);
  const copy = () => navigator.clipboard.writeText(text).then(() => setCopied(true));
  return (
    <section
      aria-label="Decoded"
      className="min-h-0 overflow-auto border-t border-line lg:border-t-0 lg:border-l"
    >
      <div className="sticky top-0 flex items-center gap-2 border-b border-line bg-paper px-3 py-1">
        <h3 className="mr-auto truncate font-semibold">{one.what}</h3>
        <Button onClick={() => void copy()}>{copied ? "Copied" : "Copy"}</Button>
        <Button onClick={onClose}>Close</Button>
      </div>
      {setsOf(one.content).map((set) => (
        <Rows key={`${set.conversation_id} ${set.cursor}`} set={set} />
      ))}
      <pre className="p-3 font-mono text-xs break-words whitespace-pre-wrap">{text || "(nothing)"}</pre>
    </section>
  );
}

function setsOf(content: unknown): ChangeSet[] {
  if (!content || typeof content !== "object") return [];
  if ("messages" in content && "cursor" in content && "head" in content) return [content as ChangeSet];
  const { items } = content as { items?: unknown[] };
  return Array.isArray(items) ? items.flatMap(setsOf) : [];
}

function Rows({ set }: { set: ChangeSet }) {
  return (
    <div className="border-b border-line px-3 py-2 text-xs">
      <p className="text-faint">
        <span className="sounding">{set.conversation_id}</span>, head {count(set.head)}, floor{" "}
        {count(set.floor)}
        {set.reset && <strong className="text-buoy"> begins anew</strong>}
        {set.more && ", more to come"}
      </p>
      <ul className="mt-1">
        {set.messages.map((one) => (
          <li key={one.seq} className="grid grid-cols-[56px_64px_minmax(0,1fr)] gap-2">
            <span className="sounding text-right">{one.seq}</span>
            <span className="sounding text-faint">rev {one.rev}</span>
            <span className="truncate">{one.removed_at ? "removed" : one.body}</span>
          </li>
        ))}
        {set.members.map((one) => (
          <li key={one.user_id} className="grid grid-cols-[56px_64px_minmax(0,1fr)] gap-2">
            <span className="text-right text-faint">member</span>
            <span className="sounding text-faint">rev {one.rev}</span>
            <span className="truncate">
              {one.user_id}, {one.left_at ? "left" : `${one.role}, read up to ${count(one.read_seq)}`}
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}
