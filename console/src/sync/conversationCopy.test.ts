import { describe, expect, it } from "vitest";
import type { ChangeSet, HistoryPage, Member, Message } from "../api/client";
import { ConversationCopy } from "./conversationCopy";
import { type Entry, type Kind, outcomeOf } from "./outbox";
import { messageOf, setOf } from "./testRows";

const message = (seq: number, rev = seq, body = `m${seq}`): Message => messageOf("c", seq, rev, body);

const page = (seqs: number[], head: number, floor = 1): HistoryPage => ({
  items: seqs.map((seq) => message(seq)),
  older: null,
  newer: null,
  profiles: {},
  head,
  floor,
  change_cursor: "here",
});

const changes = (messages: Message[], extra: Partial<ChangeSet> = {}): ChangeSet =>
  setOf("c", messages, { cursor: "there", ...extra });

const entry = (n: number, kind: Kind, content: Entry["content"]): Entry => ({
  n,
  conversation_id: "c",
  kind,
  key: `k${n}`,
  content,
  at: "2026-11-25T10:00:00.000000Z",
  reason: null,
});

const shown = (copy: ConversationCopy) =>
  copy.rows().map((row) => {
    if (row.kind === "message") return row.message.seq;
    if (row.kind === "gap") return `${row.from}-${row.to}`;
    return row.kind === "torn" ? `torn ${row.gone}` : row.pending.content.body;
  });

describe("a copy of a conversation", () => {
  it("shows what is not loaded as a gap, at both ends and between", () => {
    const copy = new ConversationCopy("c", "mara");
    copy.applyPage(page([4, 5], 9));
    copy.applyPage(page([7], 9));
    expect(shown(copy)).toEqual(["1-3", 4, 5, "6-6", 7, "8-9"]);
  });

  it("is not changed by a change set that comes again, nor by an older row", () => {
    const copy = new ConversationCopy("c", "mara");
    copy.applyPage(page([1, 2], 2));
    const set = changes([message(3), message(2, 9, "edited")]);
    copy.applyChanges(set);
    copy.applyChanges(set);
    copy.applyPage(page([1, 2], 2));
    expect(shown(copy)).toEqual([1, 2, 3]);
    expect(copy.messages.get(2)?.body).toBe("edited");
    expect(copy.cursor).toBe("there");
  });

  it("drops what lies below the floor and shows how much", () => {
    const copy = new ConversationCopy("c", "mara");
    copy.applyPage(page([1, 2, 3], 3));
    copy.applyChanges(changes([message(4)], { floor: 3 }));
    expect(shown(copy)).toEqual(["torn 2", 3, 4]);
  });

  it("begins anew on reset", () => {
    const copy = new ConversationCopy("c", "mara");
    copy.applyPage(page([1, 2], 2));
    copy.applyChanges(changes([message(8), message(9)], { reset: true }));
    expect(shown(copy)).toEqual(["1-7", 8, 9]);
  });

  it("keeps receipts at the message that each member has reached, and counts what is unread", () => {
    const copy = new ConversationCopy("c", "mara");
    const member = (
      user_id: string,
      read_seq: number,
      rev: number,
      left_at: string | null = null,
    ): Member => ({
      user_id,
      role: "writer",
      joined_at: "2026-11-25T10:00:00.000000Z",
      left_at,
      read_seq,
      read_at: null,
      rev,
    });
    copy.applyPage(page([4, 5, 6, 7], 7));
    copy.applyMembers([member("odd", 4, 8), member("ines", 6, 9), member("tam", 6, 10, "gone")], []);
    expect([...copy.receipts()]).toEqual([
      [6, ["ines"]],
      [4, ["odd"]],
    ]);
    expect(copy.unreadOf("odd")).toEqual({ unread: 3, unread_mentions: 0 });
    expect(copy.unreadOf("mara")).toBeNull();
    copy.applyChanges(
      changes([{ ...message(5, 11, ""), removed_at: "now" }], { members: [member("ines", 5, 7)] }),
    );
    expect(copy.unreadOf("odd")).toEqual({ unread: 2, unread_mentions: 0 });
    expect(copy.readSeqOf("ines")).toBe(6);
    copy.applyMembers([member("odd", 2, 12)], []);
    expect(copy.unreadOf("odd")).toBeNull();
  });

  it("turns a pending post into the numbered one in one step", () => {
    const copy = new ConversationCopy("c", "mara");
    copy.applyPage(page([1], 1));
    copy.setEntries([entry(1, "post", { body: "mine" })]);
    expect(shown(copy)).toEqual([1, "mine"]);
    const seen: unknown[] = [];
    copy.subscribe(() => seen.push(shown(copy)));
    copy.settle([], message(2));
    copy.applyChanges(changes([message(2)]));
    expect(seen).toEqual([
      [1, 2],
      [1, 2],
    ]);
  });

  it("shows a message as it will be while commands about it wait, and as it is when they are refused", () => {
    const copy = new ConversationCopy("c", "mara");
    copy.applyPage(page([1, 2, 3], 3));
    const waiting = [
      entry(1, "edit", { seq: 1, body: "edited" }),
      entry(2, "react", { seq: 2, symbol: "like" }),
      entry(3, "remove", { seq: 3 }),
    ];
    copy.setEntries(waiting);
    const [one, two, three] = copy.rows().map((row) => (row.kind === "message" ? row : null));
    expect([one?.waiting, one?.message.body]).toEqual([true, "edited"]);
    expect(two?.message.reactions).toEqual([{ symbol: "like", count: 1, by: ["mara"] }]);
    expect(three?.message.removed_by).toBe("mara");
    copy.setEntries(waiting.map((one) => ({ ...one, reason: "not yours" })));
    expect(copy.rows().every((row) => row.kind === "message" && !row.waiting)).toBe(true);
  });
});

describe("what a refusal means", () => {
  const edit = entry(1, "edit", { seq: 1, body: "new", rev: 1 });
  const stale = { type: "/problems/stale-edit", title: "", status: 412, detail: "" };

  it("takes an edit that arrived before as done, and nothing else", () => {
    const arrived = { ...message(1, 3, "new"), author_id: "mara" };
    expect(outcomeOf(edit, { ...stale, message: arrived }, "mara").is).toBe("done");
    expect(outcomeOf(edit, { ...stale, message: message(1, 3, "other") }, "mara").is).toBe("refused");
    expect(outcomeOf(edit, { ...stale, status: 503 }, "mara").is).toBe("again");
    expect(outcomeOf(edit, { ...stale, status: 404 }, "mara").is).toBe("refused");
  });
});
