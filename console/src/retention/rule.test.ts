// biome-ignore-all lint/suspicious/noThenProperty: it is the name of the contract's field
import { describe, expect, it } from "vitest";
import { barsOf, bodyOf, type Draft, draftOf, type Rule, wordsOf } from "./rule";

const none: Draft = { keepLast: "", keepFor: "", keepBytes: "", fate: "archive", hold: false };
const rule: Rule = {
  keep_last: 500,
  keep_for: "P30D",
  keep_bytes: null,
  then: "discard",
  hold: false,
  own: true,
};

describe("a rule as it is typed", () => {
  it("is sent with what was filled in, and comes back as it was", () => {
    const sent = bodyOf(draftOf(rule));
    expect(sent).toEqual({
      body: { keep_last: 500, keep_for: "P30D", then: "discard", hold: false, confirm: false },
    });
  });
  it("is no rule where nothing is limited, and a hold alone is one", () => {
    expect(bodyOf(none)).toEqual({ body: null });
    expect(bodyOf({ ...none, hold: true })).toEqual({ body: { hold: true, confirm: false } });
  });
  it("says at which field it is wrong", () => {
    expect(bodyOf({ ...none, keepLast: "0" })).toMatchObject({ field: "keepLast" });
    expect(bodyOf({ ...none, keepBytes: "many" })).toMatchObject({ field: "keepBytes" });
    for (const keepFor of ["30 days", "P", "PT", "P0D", "P1H"])
      expect(bodyOf({ ...none, keepFor })).toMatchObject({ field: "keepFor" });
    expect(bodyOf({ ...none, keepFor: "pt12h", keepLast: "1,000" })).toEqual({
      body: { keep_for: "PT12H", keep_last: 1000, then: "archive", hold: false, confirm: false },
    });
  });
  it("reads as a sentence", () => {
    expect(wordsOf(rule)).toBe(
      "Keeps the newest 500 messages and what is younger than P30D, and discards the rest.",
    );
    expect(wordsOf({ ...rule, keep_last: null, keep_for: null, hold: true })).toBe(
      "Keeps everything, and is on hold.",
    );
  });
});

describe("the bars of a preview", () => {
  const days = (n: number) =>
    Array.from({ length: n }, (_, i) => ({
      day: new Date(Date.UTC(2026, 0, 1 + i)).toISOString().slice(0, 10),
      messages: 2,
    }));
  it("are days, weeks or months, and lose no message", () => {
    expect(barsOf([])).toEqual([]);
    expect(barsOf(days(30))).toHaveLength(30);
    expect(barsOf(days(60))[1]).toEqual({ label: "2026-01-05", messages: 14 });
    expect(barsOf(days(400)).map((bar) => bar.label)).toContain("2027-01");
    for (const n of [30, 60, 400])
      expect(barsOf(days(n)).reduce((sum, bar) => sum + bar.messages, 0)).toBe(2 * n);
  });
});
