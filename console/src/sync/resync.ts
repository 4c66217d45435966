import type { ProblemDocument } from "../api/client";
import { CommandRefused, LineBroken } from "./line";
import type { ResyncAnswer } from "./replica";
import { wireLog } from "./wireLog";

/** What a catch-up brought, and what it took. */
export type Resynced = {
  at: Date;
  conversations: number;
  rows: number;
  bytes: number;
  ms: number;
  requests: number;
};

/**
 * Fetch everything that moved since a cursor, an answer at a time; `take` keeps each before the next is asked for.
 * A cursor that the service does not know begins at nothing.
 */
export async function resync(
  member: string,
  token: string,
  start: string | null,
  take: (answer: ResyncAnswer) => Promise<void>,
): Promise<Resynced> {
  const began = performance.now();
  const done: Resynced = { at: new Date(), conversations: 0, rows: 0, bytes: 0, ms: 0, requests: 0 };
  let cursor = start;
  for (let more = true; more; ) {
    const asked = performance.now();
    const body = JSON.stringify(cursor === null ? {} : { cursor });
    wireLog.note({ member, way: "out", door: "http", what: "POST /v1/resync", ms: null }, body);
    const answer = await fetch("/v1/resync", {
      method: "POST",
      headers: { Authorization: `Bearer ${token}`, "Content-Type": "application/json" },
      body,
    }).catch(() => {
      throw new LineBroken("the service does not answer");
    });
    const text = await answer.text();
    const ms = performance.now() - asked;
    wireLog.note({ member, way: "in", door: "http", what: `${answer.status} /v1/resync`, ms }, text);
    if (answer.status === 422 && cursor !== null) {
      cursor = null;
      continue;
    }
    if (!answer.ok) throw new CommandRefused(JSON.parse(text) as ProblemDocument);
    const found = JSON.parse(text) as ResyncAnswer;
    await take(found);
    done.requests += 1;
    done.bytes += text.length;
    done.conversations += found.items.length + found.gone.length;
    for (const item of found.items) done.rows += item.messages.length + item.members.length;
    cursor = found.cursor;
    more = found.more;
  }
  done.ms = performance.now() - began;
  return done;
}
