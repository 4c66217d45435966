import type { Message } from "../api/client";
import { namedIn, partsOf } from "../lib/mentions";
import type { ConversationCopy } from "../sync/conversationCopy";

type Props = { message: Message; copy: ConversationCopy; me: string };

const look = (userId: string, me: string): string =>
  userId === me ? "font-semibold text-buoy" : "text-chart";

const nameable = ({ message, copy }: Props) =>
  (message.mentions ?? []).map((userId) => ({ userId, name: copy.nameOf(userId) }));

/** Plain text, in which those whom the message names stand out. */
export function NamedText(props: Props) {
  let at = 0;
  return (
    <span className="whitespace-pre-wrap [unicode-bidi:isolate]">
      {partsOf(props.message.body, nameable(props)).map((part) => {
        const key = at;
        at += part.text.length;
        return part.userId === null ? (
          part.text
        ) : (
          <span key={key} className={look(part.userId, props.me)}>
            {part.text}
          </span>
        );
      })}
    </span>
  );
}

/** Those whom a message names without their name in its text. */
export function NamedBeside(props: Props) {
  const { message, copy, me } = props;
  const people = nameable(props);
  const written = message.format === "plain" ? namedIn(message.body, people) : [];
  const beside = people.filter((one) => !written.includes(one.userId));
  if (beside.length === 0) return null;
  return (
    <span className="ml-2 text-xs">
      <span className="sr-only">names </span>
      {beside.map(({ userId }) => (
        <span key={userId} className={`mr-1.5 ${look(userId, me)}`}>
          @{copy.nameOf(userId)}
        </span>
      ))}
    </span>
  );
}
