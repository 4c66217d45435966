/** Pauses before trying again, in milliseconds: exponential, with jitter, at most 10 s. */
export function* pauses(random: () => number = Math.random): Generator<number, never> {
  let step = 200;
  for (;;) {
    yield step * (0.2 + 0.8 * random());
    step = Math.min(10_000, step * 2);
  }
}

/** When a process stops, all who were connected to it come back within so long, and not at one moment. */
export const SPREAD_MS = 10_000;

/** How long to wait after a line has ended: the next pause, or longer where the service has said that it stops. */
export function pauseAfter(step: number, leaving: boolean, random: () => number = Math.random): number {
  return leaving ? Math.max(step, SPREAD_MS * random()) : step;
}
