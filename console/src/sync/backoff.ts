/** Pauses before trying again, in milliseconds: exponential, with jitter, at most 10 s. */
export function* pauses(random: () => number = Math.random): Generator<number, never> {
  let step = 200;
  for (;;) {
    yield step * (0.2 + 0.8 * random());
    step = Math.min(10_000, step * 2);
  }
}
