const FIRST_MS = 100;
const MOST_MS = 10_000;

/** Pauses before trying again, in milliseconds: exponential, with jitter. The policy of every client, by its vectors. */
export function* pauses(random: () => number = Math.random): Generator<number, never> {
  let step = FIRST_MS;
  for (;;) {
    yield step * (0.2 + 0.8 * random());
    step = Math.min(MOST_MS, step * 2);
  }
}

/** When a process stops, all who were connected to it come back within so long, and not at one moment. */
export const SPREAD_MS = 10_000;

/** What the service has said of when to come back: that this process stops, or after how many seconds. */
export type Said = { leaving?: boolean; retryAfter?: number | null | undefined };

/** How long to wait in milliseconds: the next pause, or longer where the service has said so. */
export function pauseAfter(step: number, said: Said = {}, random: () => number = Math.random): number {
  if (said.leaving) return Math.max(step, SPREAD_MS * random());
  if (said.retryAfter) return Math.max(step, said.retryAfter * 1000 * (1 + 0.2 * random()));
  return step;
}
