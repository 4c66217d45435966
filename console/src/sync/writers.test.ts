import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { Writers } from "./writers";

beforeEach(() => void vi.useFakeTimers({ now: 0 }));
afterEach(() => void vi.useRealTimers());

test("whoever is writing is shown until they have sent it, or say nothing more", () => {
  const writers = new Writers();
  writers.heard("berth", "mara");
  vi.advanceTimersByTime(3_000);
  writers.heard("berth", "odd");
  writers.heard("quay", "tam");
  expect(writers.in("berth")).toEqual(["mara", "odd"]);
  const before = writers.getVersion();
  vi.advanceTimersByTime(2_500);
  expect(writers.in("berth")).toEqual(["odd"]);
  expect(writers.getVersion()).toBeGreaterThan(before);
  writers.done("berth", "odd");
  expect(writers.in("berth")).toEqual([]);
  expect(writers.in("quay")).toEqual(["tam"]);
  vi.advanceTimersByTime(10_000);
  expect(writers.in("quay")).toEqual([]);
  expect(vi.getTimerCount()).toBe(0);
});

test("one says of oneself that one is writing now and then, and not at every key", () => {
  const writers = new Writers();
  expect([writers.due("berth"), writers.due("berth")]).toEqual([true, false]);
  expect(writers.due("quay")).toBe(true);
  vi.advanceTimersByTime(2_100);
  expect(writers.due("quay")).toBe(true);
  writers.sent();
  expect(writers.due("quay")).toBe(true);
});
