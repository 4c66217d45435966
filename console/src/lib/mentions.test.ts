import { describe, expect, it } from "vitest";
import { matching, namedIn, partsOf, renamed, soughtAt } from "./mentions";

const people = [
  { userId: "odd", name: "Odd" },
  { userId: "odd-l", name: "Odd Lunde" },
  { userId: "tove", name: "Tóve" },
];

describe("who is named in a body", () => {
  it("is found by the longest name that ends with a word", () => {
    expect(namedIn("@Odd Lunde and @Odd, not @Oddny, mail@Tóve or @Nobody", people)).toEqual([
      "odd-l",
      "odd",
    ]);
    expect(namedIn("@Tóve, @Odd @Tóve", people)).toEqual(["tove", "odd"]);
    expect(namedIn("", people)).toEqual([]);
  });

  it("leaves the text as it is", () => {
    for (const body of ["@Odd Lunde!", "a @Odd", "@", "x@", "@Odd@", "no one"])
      expect(
        partsOf(body, people)
          .map((part) => part.text)
          .join(""),
      ).toBe(body);
  });

  it("keeps in an edit whom the text did not name", () => {
    expect(renamed(["tove", "odd"], "hello @Odd", "hello @Odd Lunde", people)).toEqual(["tove", "odd-l"]);
    expect(renamed(["odd"], "hello @Odd", "hello", people)).toEqual([]);
  });
});

describe("whom one is about to name", () => {
  it("is what stands between an @ and the caret", () => {
    expect(soughtAt("hi @to", 6)).toEqual({ from: 3, text: "to" });
    expect(soughtAt("@odd lu", 7)).toEqual({ from: 0, text: "odd lu" });
    expect(soughtAt("mail@to", 7)).toBeNull();
    expect(soughtAt("hi @to and more", 15)).toBeNull();
    expect(soughtAt("@", 1)).toEqual({ from: 0, text: "" });
  });

  it("is found by any word, without accents and case", () => {
    expect(matching(people, "tov", 9).map((one) => one.userId)).toEqual(["tove"]);
    expect(matching(people, "lun", 9).map((one) => one.userId)).toEqual(["odd-l"]);
    expect(matching(people, "odd", 9).map((one) => one.userId)).toEqual(["odd", "odd-l"]);
    expect(matching(people, "odd lu", 9).map((one) => one.userId)).toEqual(["odd-l"]);
    expect(matching(people, "", 2)).toHaveLength(2);
  });
});
