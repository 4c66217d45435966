import { expect, it } from "vitest";
import { runsOf } from "./marks";

const marked = (body: string, marks: [number, number][]) =>
  runsOf(body, marks)
    .filter((one) => one.marked)
    .map((one) => one.text);

it("marks ranges of code points, not of code units", () => {
  expect(marked("⚓🌊 tide 👍🏽 tide", [[3, 7]])).toEqual(["tide"]);
  expect(marked("👍🏽 yes", [[0, 2]])).toEqual(["👍🏽"]);
  expect(
    marked("bow visor", [
      [0, 9],
      [4, 9],
    ]),
  ).toEqual(["bow visor"]);
});

it("leaves the text as it is", () => {
  for (const marks of [
    [],
    [[0, 1]],
    [
      [2, 4],
      [3, 5],
    ],
  ] as [number, number][][])
    expect(
      runsOf("a tide", marks)
        .map((one) => one.text)
        .join(""),
    ).toBe("a tide");
});
