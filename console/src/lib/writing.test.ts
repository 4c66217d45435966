import { describe, expect, test } from "vitest";
import { broken, inCode, indented, linked } from "./writing";

/** A field in which `|` is the caret, or two of them the selection. */
function field(marked: string) {
  const start = marked.indexOf("|");
  const last = marked.lastIndexOf("|");
  const text = marked.replaceAll("|", "");
  return { text, start, end: last === start ? start : last - 1 };
}

const shown = (one: ReturnType<typeof broken>) =>
  one && `${one.text.slice(0, one.start)}|${one.text.slice(one.start)}`;

describe("a line break", () => {
  test.each([
    ["- ropes|", "- ropes\n- |"],
    ["  * a|b", "  * a\n  * |b"],
    ["9. nine|", "9. nine\n10. |"],
    ["- [x] done|", "- [x] done\n- [ ] |"],
    ["- one\n- |", "- one\n|"],
    ["```ts|", "```ts\n|\n```"],
    ["words|", null],
    ["```\n- in code|", null],
    ["```\na\n```\n- out|", "```\na\n```\n- out\n- |"],
  ])("%j makes %j", (before, after) => expect(shown(broken(field(before)))).toBe(after));
});

test("a tab moves items and code, and nothing else", () => {
  expect(shown(indented(field("- a|"), false))).toBe("  - a|");
  expect(shown(indented(field("  - a|"), true))).toBe("- a|");
  expect(shown(indented(field("```\nx|"), false))).toBe("```\n  x|");
  expect(indented(field("words|"), false)).toBeNull();
});

test("an address over words is a link", () => {
  expect(shown(linked(field("see |the [plan]| now"), "https://skerry.example/a"))).toBe(
    "see [the \\[plan\\]](https://skerry.example/a)| now",
  );
  expect(linked(field("see |the plan|"), "javascript:alert(1)")).toBeNull();
  expect(linked(field("see |"), "https://skerry.example")).toBeNull();
});

test("a fence is closed by one as long, of its own kind", () => {
  expect(inCode("````\n```\nx", 10)).toBe(true);
  expect(inCode("```\na\n```", 9)).toBe(false);
  expect(inCode("~~~\nx\n~~~\ny", 11)).toBe(false);
});
