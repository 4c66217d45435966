import type { Webhook } from "../api/client";
import { counted } from "../lib/format";

/** How a webhook stands, in words; `now` in milliseconds. */
export function standing(one: Webhook, now: number): string {
  if (one.state === "stopped") return "stopped: its receiver said so, or was away for three days";
  if (one.state === "paused") return "paused";
  const words = [];
  if (one.attempt) words.push(`failed ${counted(one.attempt, "time")}, again ${when(one.next_at, now)}`);
  if (one.replaying)
    words.push(`sending again, ${one.replaying.conversations} of ${one.replaying.of} conversations`);
  return words.join(", ") || "takes everything";
}

function when(at: string | null, now: number): string {
  if (at === null) return "soon";
  const seconds = Math.round((Date.parse(at) - now) / 1000);
  if (seconds < 1) return "now";
  return seconds < 120 ? `in ${seconds} s` : `in ${Math.round(seconds / 60)} min`;
}
