import { describe, expect, it } from "vitest";
import { isQuiet, tomorrowMorning } from "./morning";

describe("until tomorrow morning", () => {
  it("is at seven of the next day, or of this one late at night", () => {
    expect(tomorrowMorning(new Date(2026, 10, 30, 22, 15))).toEqual(new Date(2026, 11, 1, 7));
    expect(tomorrowMorning(new Date(2026, 10, 30, 9, 0))).toEqual(new Date(2026, 11, 1, 7));
    expect(tomorrowMorning(new Date(2026, 10, 30, 2, 30))).toEqual(new Date(2026, 10, 30, 7));
  });

  it("ends by itself", () => {
    const after = "2026-11-30T06:00:00.000000Z";
    expect(isQuiet(after, Date.parse("2026-11-30T05:59:59Z"))).toBe(true);
    expect(isQuiet(after, Date.parse("2026-11-30T06:00:00Z"))).toBe(false);
    expect(isQuiet(null, 0)).toBe(false);
  });
});
