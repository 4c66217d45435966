import { expect, test } from "vitest";
import { INTERVALS, intervalText } from "./interval";

test("an interval is said as a person would", () => {
  expect(INTERVALS.map(intervalText)).toEqual([
    "as often as they like",
    "once in 10 seconds",
    "once in 30 seconds",
    "once in a minute",
    "once in 5 minutes",
    "once in 15 minutes",
    "once in an hour",
    "once in a day",
  ]);
  expect(intervalText(90)).toBe("once in 90 seconds");
});
