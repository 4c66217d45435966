import { expect, test } from "vitest";
import { pauseAfter, pauses, SPREAD_MS } from "./backoff";

test("the pauses double, with jitter, up to ten seconds", () => {
  const [least, most] = [pauses(() => 0), pauses(() => 1)];
  expect([1, 2, 3].map(() => most.next().value)).toEqual([200, 400, 800]);
  for (let n = 0; n < 20; n++) least.next();
  expect(least.next().value).toBe(2_000);
});

test("those whom a process tells that it stops come back spread over ten seconds", () => {
  const waits = Array.from({ length: 101 }, (_, n) => pauseAfter(200, true, () => n / 100));
  expect(Math.max(...waits)).toBe(SPREAD_MS);
  expect(waits.filter((wait) => wait > SPREAD_MS / 2)).toHaveLength(50);
  expect(Math.min(...waits)).toBe(200);
  expect(pauseAfter(200, false, () => 1)).toBe(200);
});
