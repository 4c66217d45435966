import { expect, test } from "vitest";
import { csvOf, daysBack, labelOf, type Usage } from "./usage";

const one: Usage = {
  at: "2026-11-26T07:00:00.000000Z",
  id: '=cmd|"x"',
  posts: 3,
  edits: 0,
  removals: 0,
  reactions: 1,
  receipts: 2,
  deliveries: 40,
  connections_peak: 5,
  people: 4,
  stored_bytes: 1024,
};

test("an hour and a day are labelled as the service counts them", () => {
  expect([labelOf(one.at, "hour"), labelOf(one.at, "day")]).toEqual(["11-26 07h", "11-26"]);
  expect(daysBack(2, new Date("2026-11-26T07:30:00Z"))).toBe("2026-11-24T07:30:00.000Z");
});

test("a table is quoted, and nothing in it is a formula", () => {
  const [head, line, end] = csvOf([one]).split("\r\n");
  expect(head?.startsWith("at,id,posts")).toBe(true);
  expect(line).toBe(`2026-11-26T07:00:00.000000Z,"'=cmd|""x""",3,0,0,1,2,40,5,4,1024`);
  expect(end).toBe("");
});
