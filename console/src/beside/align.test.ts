import { expect, it } from "vitest";
import type { Message } from "../api/client";
import { ConversationCopy } from "../sync/conversationCopy";
import { align } from "./align";

const copyOf = (rows: [number, number][], head: number): ConversationCopy => {
  const copy = new ConversationCopy("c", "mara");
  for (const [seq, rev] of rows)
    copy.put({ conversation_id: "c", seq, rev, author_id: "mara", body: "", removed_at: null } as Message);
  copy.head = head;
  return copy;
};

it("aligns two copies by number, and tells what one lacks or holds in an older state", () => {
  const left = copyOf([[1, 1], [2, 9], [3, 3]], 3); // biome-ignore format: a table
  const right = copyOf([[1, 1], [2, 2]], 2); // biome-ignore format: a table
  const rows = align(left, right, 2).map((row) =>
    row.kind === "numbered" ? [row.seq, row.left?.old ?? null, row.right?.old ?? null] : row,
  );
  expect(rows).toEqual([
    [2, false, true],
    [3, false, null],
  ]);
});
