import "fake-indexeddb/auto";
import { readFileSync } from "node:fs";
import { resolve } from "node:path";
import { expect, it, vi } from "vitest";
import type { ChangeSet, HistoryPage, Member, Message, ProblemDocument } from "../api/client";
import { rightsOf } from "../lib/rights";
import { pauseAfter, pauses } from "./backoff";
import { ConversationCopy } from "./conversationCopy";
import { type Answer, CommandRefused, type Line } from "./line";
import { type Entry, type Kind, overlaid } from "./outbox";
import { Replica } from "./replica";
import type { SeatFiles } from "./seatFiles";
import { SeatOutbox } from "./seatOutbox";

/** The published vectors, which every client of the protocol can run. */
const vectors = <T>(name: string, kind = "vectors"): T[] =>
  JSON.parse(readFileSync(resolve(__dirname, `../../../docs/vectors/${name}.json`), "utf8"))[kind];

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
  discarded?: string[];
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
    const discarded = (await replica.entries()).filter((one) => vector.discarded?.includes(one.key));
    for (const { n } of discarded) await outbox.discard(n);
    await outbox.flush().catch((error: unknown) => expect(error).toBeInstanceOf(CommandRefused));
    expect(exchange).toEqual([]);
    const left = await replica.entries();
    expect(left.map((one) => [one.key, one.content.rev ?? null, one.reason !== null])).toEqual(vector.left);
    outbox.end();
  });
}

type Waiting = { kind: Kind; seq: number | null; content: Entry["content"]; refused: boolean };

for (const vector of vectors<{
  name: string;
  me: string;
  message: Message;
  entries: Waiting[];
  shown: Message;
}>("overlay")) {
  it(`shows what waits: ${vector.name}`, () => {
    const entries = vector.entries.map(
      ({ kind, seq, content, refused }, n): Entry => ({
        n,
        conversation_id: "c1",
        kind,
        key: `k${n}`,
        content: seq === null ? content : { ...content, seq },
        at: "2026-11-25T11:00:00.000000Z",
        reason: refused ? "refused" : null,
      }),
    );
    expect(overlaid(vector.message, entries, vector.me)).toEqual(vector.shown);
  });
}

type Roles = { kind: "group" | "direct" | "bulletin"; role: Member["role"] | null };

it("allows what a role allows", () => {
  for (const { kind, role, ...may } of vectors<Roles>("roles")) expect(rightsOf(kind, role)).toEqual(may);
});

for (const vector of vectors<{ name: string; chance: number; pauses: number[] }>("pauses"))
  it(`waits: ${vector.name}`, () => {
    const steps = pauses(() => vector.chance);
    for (const seconds of vector.pauses) expect(steps.next().value).toBeCloseTo(seconds * 1000);
  });

type After = {
  name: string;
  step: number;
  chance: number;
  leaving: boolean;
  retry_after: number;
  pause: number;
};
for (const { name, step, chance, leaving, retry_after, pause } of vectors<After>("pauses", "after"))
  it(`waits: ${name}`, () => {
    const found = pauseAfter(step * 1000, { leaving, retryAfter: retry_after }, () => chance);
    expect(found).toBeCloseTo(pause * 1000);
  });
