import { small } from "../lib/storage";
/** Where a member was in a conversation: the first number on screen, or the end. */
export type Place = { seq: number | null };

const key = (member: string, rest: string) => `nestrel.place.${member}.${rest}`;

export function rememberPlace(member: string, conversation: string, place: Place): void {
  small.set(key(member, conversation), JSON.stringify(place));
}

export function recallPlace(member: string, conversation: string): Place {
  try {
    const held = JSON.parse(small.get(key(member, conversation)) ?? "") as Place;
    return { seq: typeof held.seq === "number" ? held.seq : null };
  } catch {
    return { seq: null };
  }
}

let reloaded = performance
  .getEntriesByType("navigation")
  .some((one) => (one as { type?: string }).type === "reload");

/** Whoever comes by an address with a number begins there; a page that is only read again stays where it was. */
export function arrive(member: string, conversation: string): void {
  const seq = Number(new URLSearchParams(window.location.search).get("at"));
  if (!reloaded && Number.isSafeInteger(seq) && seq > 0) rememberPlace(member, conversation, { seq });
  reloaded = false;
}

export function rememberConversation(member: string, conversation: string): void {
  small.set(key(member, "last"), conversation);
}

export function recallConversation(member: string): string | null {
  return small.get(key(member, "last"));
}

/** Forget where a member was; for signing out. */
export function forgetPlaces(member: string): void {
  const own = key(member, "");
  for (const name of small.names()) if (name.startsWith(own)) small.set(name, null);
}

const keepKey = (member: string) => `nestrel.keep.${member}`;

/** Whether a member's conversations stay in this browser after signing out. */
export function keepsOffline(member: string): boolean {
  return small.get(keepKey(member)) === "yes";
}

export function setKeepsOffline(member: string, keeps: boolean): void {
  small.set(keepKey(member), keeps ? "yes" : null);
}
