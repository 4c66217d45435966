import type { ConversationCopy } from "../sync/conversationCopy";

const SHOWN = 3;

/** Marks in the margin: the members whose receipt stands at this message. */
export function Receipts({ users, copy }: { users: string[]; copy: ConversationCopy }) {
  if (users.length === 0) return null;
  const names = users.map((userId) => copy.nameOf(userId));
  const label = `read up to here by ${names.join(", ")}`;
  return (
    <span role="img" aria-label={label} title={label} className="flex justify-end gap-0.5 pt-0.5">
      {names.slice(0, SHOWN).map((name, index) => (
        <span
          key={users[index]}
          aria-hidden
          className="border border-line bg-shoal px-0.5 font-mono text-[10px] leading-4 text-faint"
        >
          {initials(name)}
        </span>
      ))}
      {names.length > SHOWN && (
        <span aria-hidden className="font-mono text-[10px] leading-4 text-faint">
          +{names.length - SHOWN}
        </span>
      )}
    </span>
  );
}

function initials(name: string): string {
  const words = name.split(/\s+/).filter(Boolean);
  return [words[0], words.length > 1 ? words[words.length - 1] : ""]
    .map((word) => [...(word ?? "")][0] ?? "")
    .join("")
    .toUpperCase();
}
