import { expect, test } from "vitest";
import type { Webhook } from "../api/client";
import { standing } from "./standing";

const base = { state: "active", attempt: 0, next_at: null, replaying: null } as Webhook;

test("a webhook's standing says what is wrong, and when it is tried again", () => {
  const now = Date.parse("2026-11-27T12:00:00Z");
  expect(standing(base, now)).toBe("takes everything");
  expect(standing({ ...base, state: "paused", attempt: 3 }, now)).toBe("paused");
  expect(standing({ ...base, attempt: 1, next_at: "2026-11-27T12:00:30Z" }, now)).toBe(
    "failed 1 time, again in 30 s",
  );
  expect(standing({ ...base, attempt: 2, next_at: "2026-11-27T12:30:00Z" }, now)).toBe(
    "failed 2 times, again in 30 min",
  );
  expect(
    standing(
      { ...base, attempt: 2, next_at: "2026-11-27T11:00:00Z", replaying: { conversations: 2, of: 5 } },
      now,
    ),
  ).toBe("failed 2 times, again now, sending again, 2 of 5 conversations");
});
