import type { Conversation, Message, Profile } from "../api/client";
import type { Resynced } from "../sync/resync";

const clock = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
const day = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "short" });
const full = new Intl.DateTimeFormat(undefined, { dateStyle: "full", timeStyle: "medium", hourCycle: "h23" });

export const exactTime = (at: string): string => full.format(new Date(at));

/** The time today, the day before that. */
export function shortTime(at: string, now: Date = new Date()): string {
  const moment = new Date(at);
  return moment.toDateString() === now.toDateString() ? clock.format(moment) : day.format(moment);
}

export const dayMonth = (at: string): string => day.format(new Date(at));

export const clockTime = (at: string | Date): string => clock.format(new Date(at));

export const dayOf = (at: string): string =>
  new Intl.DateTimeFormat(undefined, { weekday: "long", day: "numeric", month: "long" }).format(new Date(at));

/** What a conversation is called; a direct one after the other of its two members. */
export function titleOf(one: Conversation, profiles: Map<string, Profile>): string {
  if (one.kind !== "direct") return one.title || one.name || one.id;
  const { partner } = one;
  return partner ? (profiles.get(partner)?.display_name ?? partner) : "Direct conversation";
}

/** Who may find it. On the wire `closed` is one that is private; closed for good is another thing. */
export const visibilityText = (one: Conversation): string => (one.visibility === "open" ? "open" : "private");

export const count = (n: number): string => n.toLocaleString();

/** Bytes in a unit that a person reads. */
export function bytesText(bytes: number): string {
  if (bytes < 1000) return `${bytes} B`;
  return bytes < 1_000_000 ? `${(bytes / 1000).toFixed(1)} kB` : `${(bytes / 1_000_000).toFixed(1)} MB`;
}

/** What a message says in a line: its body, or what it brings. */
export const saidIn = (message: Message): string =>
  message.body || message.attachments.map((one) => one.name).join(", ");

export const counted = (n: number, one: string, many = `${one}s`): string =>
  `${count(n)} ${n === 1 ? one : many}`;

/** What a resync brought: rows, bytes, milliseconds. */
export function resyncText(done: Resynced): string {
  return `resync: ${counted(done.rows, "row")}, ${bytesText(done.bytes)}, ${Math.round(done.ms)} ms`;
}
