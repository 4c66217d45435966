import type { Conversation, Member } from "../api/client";

/** What a role allows in a kind of conversation, as the service decides it; the vectors in docs/vectors hold both. */
export type Rights = {
  post: boolean;
  react: boolean;
  edit_own: boolean;
  remove_own: boolean;
  remove_others: boolean;
};

export function rightsOf(kind: Conversation["kind"], role: Member["role"] | null): Rights {
  const manages = role === "owner" || role === "moderator";
  const writes = manages || (role === "writer" && kind !== "bulletin");
  const member = role !== null;
  return { post: writes, react: member, edit_own: writes, remove_own: member, remove_others: manages };
}
