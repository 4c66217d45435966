import "fake-indexeddb/auto";
import { readFileSync } from "node:fs";
import { resolve } from "node:path";
import { expect, it, vi } from "vitest";
import type { ChangeSet, HistoryPage, Member, Message, ProblemDocument } from "../api/client";
import { rightsOf } from "../lib/rights";
import { ConversationCopy } from "./conversationCopy";
import { type Answer, CommandRefused, type Line } from "./line";
import type { Kind } from "./outbox";
import { Replica } from "./replica";
import type { SeatFiles } from "./seatFiles";
import { SeatOutbox } from "./seatOutbox";

/** The published vectors, which every client of the protocol can run. */
const vectors = <T>(name: string): T[] =>
  JSON.parse(readFileSync(resolve(__dirname, `../../../docs/vectors/${name}.json`), "utf8")).vectors;

type Copy = {
  head: number;
  floor: number;
  cursor: string;
  messages: Record<string, [number, string]>;
  members: Record<string, [number, number, boolean]>;
  profiles: Record<string, [number, string]>;
};
type Step = { changes?: ChangeSet; page?: HistoryPage; answer?: Message };

const messagesOf = (held: Iterable<Message>) =>
  Object.fromEntries([...held].map((one) => [one.seq, [one.rev, one.body]]));
const membersOf = (held: Iterable<Member>) =>
  Object.fromEntries([...held].map((one) => [one.user_id, [one.rev, one.read_seq, one.left_at === null]]));
const profilesOf = (held: Iterable<{ user_id: string; rev: number; display_name: string }>) =>
  Object.fromEntries([...held].map((one) => [one.user_id, [one.rev, one.display_name]]));

let members = 0;

for (const vector of vectors<{ name: string; steps: Step[]; copy: Copy }>("replica")) {
  it(`keeps in this browser: ${vector.name}`, async () => {
    const replica = await Replica.open(`vector ${members++}`);
    for (const { changes, page, answer } of vector.steps) {
      if (changes) await replica.changes(changes);
      if (page) await replica.page("c1", page);
      if (answer) await replica.settled(0, answer);
    }
    const { head, floor, cursor } = (await replica.place("c1")) ?? { head: 0, floor: 1, cursor: null };
    const found = {
      head,
      floor,
      cursor,
      messages: messagesOf(await replica.messages("c1", 0, 100, 100)),
      members: membersOf(await replica.members("c1")),
      profiles: profilesOf((await replica.listed()).profiles),
    };
    expect(found).toEqual(vector.copy);
  });

  it(`shows: ${vector.name}`, () => {
    const copy = new ConversationCopy("c1", "mara");
    for (const { changes, page, answer } of vector.steps) {
      if (changes) copy.applyChanges(changes);
      if (page) copy.applyPage(page);
      if (answer) copy.settle([], answer);
    }
    expect({
      head: copy.head,
      floor: copy.floor,
      cursor: copy.cursor,
      messages: messagesOf(copy.messages.values()),
      members: membersOf(copy.members.values()),
      profiles: profilesOf(copy.profiles.values()),
    }).toEqual(vector.copy);
  });
}

type Command = { kind: Kind; conversation_id: string; key: string; seq?: number; content: object };
type Said = { done?: Answer; refused?: ProblemDocument };
type Exchange = [Record<string, unknown>, Said];

for (const vector of vectors<{
  name: string;
  me: string;
  commands: Command[];
  exchange: Exchange[];
  left: [string, number | null, boolean][];
}>("outbox")) {
  it(`sends: ${vector.name}`, async () => {
    vi.stubGlobal("navigator", { locks: { request: (_: string, work: () => unknown) => work() } });
    const replica = await Replica.open(`vector ${members++}`);
    const exchange = [...vector.exchange];
    const line = {
      state: "live",
      command: async (frame: Record<string, unknown>) => {
        const [wanted, said] = exchange.shift() as Exchange;
        expect(frame).toEqual(wanted);
        if (said.refused) throw new CommandRefused(said.refused);
        return said.done as Answer;
      },
    } as unknown as Line;
    for (const { kind, conversation_id, key, seq, content } of vector.commands)
      await replica.put({
        kind,
        conversation_id,
        key,
        at: "2026-11-25T10:00:00.000000Z",
        reason: null,
        content: { ...content, ...(seq === undefined ? {} : { seq }) },
      });
    const outbox = new SeatOutbox(
      vector.me,
      replica,
      () => line,
      () => ({}) as SeatFiles,
      () => {},
    );
    await outbox.flush().catch((error: unknown) => expect(error).toBeInstanceOf(CommandRefused));
    expect(exchange).toEqual([]);
    const left = await replica.entries();
    expect(left.map((one) => [one.key, one.content.rev ?? null, one.reason !== null])).toEqual(vector.left);
    outbox.end();
  });
}

type Roles = { kind: "group" | "direct" | "bulletin"; role: Member["role"] | null };

it("allows what a role allows", () => {
  for (const { kind, role, ...may } of vectors<Roles>("roles")) expect(rightsOf(kind, role)).toEqual(may);
});
