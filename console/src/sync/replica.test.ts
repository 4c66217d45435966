import "fake-indexeddb/auto";
import { expect, it } from "vitest";
import type { ChangeSet } from "../api/client";
import { Replica, type ResyncAnswer } from "./replica";
import { AT, messageOf as message, setOf as set } from "./testRows";

const answer = (items: ChangeSet[], extra: Partial<ResyncAnswer> = {}): ResyncAnswer => ({
  items,
  joined: [],
  gone: [],
  cursor: "all",
  more: false,
  reset: false,
  begins: false,
  rewound: false,
  ...extra,
});

let members = 0;
const open = () => Replica.open(`member ${members++}`);
const seqs = async (replica: Replica, id: string) =>
  (await replica.messages(id, 0, 100, 100)).map((one) => one.seq);

it("keeps rows and cursor together, never an older row, and drops what lies below the floor", async () => {
  const replica = await open();
  await replica.answer(answer([set("a", [message("a", 1), message("a", 2, 9, "edited")])]));
  await replica.changes(set("a", [message("a", 2, 5, "older"), message("a", 3)], { floor: 2 }));
  const held = await replica.messages("a", 0, 100, 100);
  expect(held.map((one) => [one.seq, one.body])).toEqual([
    [2, "edited"],
    [3, "m3"],
  ]);
  expect(await replica.cursor()).toBe("all");
  expect(await replica.place("a")).toMatchObject({ head: 3, floor: 2, cursor: "a 3" });
  expect(await replica.messages("a", 0, 100, 1)).toHaveLength(1);
});

it("begins anew on reset, and keeps nothing of what is gone", async () => {
  const replica = await open();
  await replica.answer(answer([set("a", [message("a", 1)]), set("b", [message("b", 1)])]));
  await replica.answer(answer([set("a", [message("a", 8)], { reset: true })], { gone: ["b"] }));
  expect([await seqs(replica, "a"), await seqs(replica, "b")]).toEqual([[8], []]);
  expect(await replica.place("b")).toBeUndefined();
});

it("keeps after a sync from nothing only what that named, over all its parts", async () => {
  const replica = await open();
  await replica.answer(
    answer([set("a", [message("a", 1)]), set("b", [message("b", 1)]), set("c", [message("c", 1)])]),
  );
  const part = (id: string, more: boolean) =>
    answer([set(id, [message(id, 1)], { reset: true })], { joined: [id], reset: true, more });
  await replica.answer(part("a", true));
  expect(await seqs(replica, "c")).toEqual([1]);
  await replica.answer(part("b", false));
  expect([await seqs(replica, "a"), await seqs(replica, "b"), await seqs(replica, "c")]).toEqual([
    [1],
    [1],
    [],
  ]);
});

it("names what was taken in or dropped behind the cursor when the store was set back, and forgets their profiles' revs", async () => {
  const replica = await open();
  const mara = { user_id: "mara", display_name: "Mara", picture: null, rev: 4 };
  await replica.answer(answer([set("a", [message("a", 1)], { profiles: { mara } })], { gone: ["c"] }));
  await replica.changes(set("b", [message("b", 1)]));
  await replica.checkpoint("later");
  expect(await replica.rewind()).toEqual(["a", "b", "c"]);
  await replica.changes(set("a", [], { profiles: { mara: { ...mara, display_name: "Of now", rev: 2 } } }));
  expect((await replica.listed()).profiles).toMatchObject([{ display_name: "Of now", rev: 2 }]);
});

it("keeps the outbox in order, and the newest receipt of a conversation only", async () => {
  const replica = await open();
  await replica.changes(set("a", []));
  const put = (kind: "post" | "read", conversation_id: string, read_seq = 0) =>
    replica.put({
      conversation_id,
      kind,
      content: { read_seq },
      key: crypto.randomUUID(),
      at: AT,
      reason: null,
    });
  const first = await put("post", "a");
  await put("read", "a", 3);
  await put("read", "b", 4);
  await put("read", "a", 5);
  const kept = await replica.entries();
  expect(kept.map((one) => [one.kind, one.content.read_seq])).toEqual([
    ["post", 0],
    ["read", 4],
    ["read", 5],
  ]);
  await replica.settled(first, message("a", 1));
  expect(await replica.entries()).toHaveLength(2);
  expect(await seqs(replica, "a")).toEqual([1]);
});

it("keeps no row of a conversation that is not held: late pages and answers come behind its end", async () => {
  const replica = await open();
  await replica.answer(answer([set("a", [message("a", 1)])]));
  await replica.drop("a");
  await replica.page("a", {
    items: [message("a", 1)],
    older: null,
    newer: null,
    profiles: {},
    head: 1,
    floor: 1,
    change_cursor: "late",
  });
  await replica.settled(0, message("a", 2));
  expect(await seqs(replica, "a")).toEqual([]);
  expect(await replica.place("a")).toBeUndefined();
});
