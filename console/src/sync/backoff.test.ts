import { expect, test } from "vitest";
import { pauseAfter, SPREAD_MS } from "./backoff";

test("those whom a process tells that it stops come back spread over ten seconds", () => {
  const waits = Array.from({ length: 101 }, (_, n) => pauseAfter(200, { leaving: true }, () => n / 100));
  expect(Math.max(...waits)).toBe(SPREAD_MS);
  expect(waits.filter((wait) => wait > SPREAD_MS / 2)).toHaveLength(50);
});
