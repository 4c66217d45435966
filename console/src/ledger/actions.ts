import type { Message } from "../api/client";
import { rightsOf } from "../lib/rights";
import type { ConversationCopy } from "../sync/conversationCopy";
import type { Seat } from "../sync/seat";

/** What the signed-in member may do to a message, as the service would decide it. */
export type Rights = { react: boolean; edit: boolean; remove: boolean; report: boolean };

export function rightsOn(message: Message, copy: ConversationCopy, seat: Seat): Rights {
  const conversation = seat.list.conversations.find((one) => one.id === copy.id);
  const role = conversation?.my_role ?? null;
  if (message.removed_at !== null || !conversation)
    return { react: false, edit: false, remove: false, report: false };
  const may = rightsOf(conversation.kind, role);
  const own = message.author_id === seat.userId;
  return {
    react: may.react,
    edit: own && may.edit_own,
    remove: own ? may.remove_own : may.remove_others,
    report: !own && conversation.kind !== "direct",
  };
}

export function reactedWith(message: Message, symbol: string, userId: string): boolean {
  return message.reactions.some((one) => one.symbol === symbol && one.by.includes(userId));
}
