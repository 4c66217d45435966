/** Where a member was in a conversation: the first number on screen, or the end. */
export type Place = { seq: number | null };

const key = (member: string, rest: string) => `nestrel.place.${member}.${rest}`;

export function rememberPlace(member: string, conversation: string, place: Place): void {
  localStorage.setItem(key(member, conversation), JSON.stringify(place));
}

export function recallPlace(member: string, conversation: string): Place {
  try {
    const held = JSON.parse(localStorage.getItem(key(member, conversation)) ?? "") as Place;
    return { seq: typeof held.seq === "number" ? held.seq : null };
  } catch {
    return { seq: null };
  }
}

export function rememberConversation(member: string, conversation: string): void {
  localStorage.setItem(key(member, "last"), conversation);
}

export function recallConversation(member: string): string | null {
  return localStorage.getItem(key(member, "last"));
}
