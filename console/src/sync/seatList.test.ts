import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { ChangeSet, Conversation, Profile } from "../api/client";
import type { Replica } from "./replica";
import { type ListOwner, SeatList } from "./seatList";

const at = (n: number) =>
  `2026-03-01T${String(Math.floor(n / 60)).padStart(2, "0")}:${String(n % 60).padStart(2, "0")}:00Z`;

/** A service with `count` conversations, the newest of them the last made; it counts what it is asked. */
class Service {
  readonly all = new Map<string, Conversation>();
  readonly asked: string[] = [];
  failAt: string | null = null;
  /** What happens before a page is answered. */
  between: () => void = () => {};

  constructor(count: number) {
    for (let n = 0; n < count; n += 1) this.put(`c${n}`, { created_at: at(n) });
  }

  put(id: string, fields: Partial<Conversation>): void {
    const before = this.all.get(id) ?? {
      id,
      head: 0,
      floor: 1,
      unread: 0,
      my_role: "writer",
      last_message: null,
    };
    this.all.set(id, { ...before, ...fields } as Conversation);
  }

  GET = (
    path: string,
    { params }: { params: { path?: { conversation_id: string }; query?: { cursor?: string } } },
  ) => {
    const id = params.path?.conversation_id;
    const start = Number(params.query?.cursor ?? 0);
    this.asked.push(id ?? `${path}@${start}`);
    if (this.failAt === String(start))
      return Promise.resolve(answer(503, { type: "/problems/unavailable", detail: "away" }));
    if (id !== undefined) {
      const one = this.all.get(id);
      return Promise.resolve(
        one ? answer(200, one) : answer(404, { type: "/problems/not-found", detail: "none" }),
      );
    }
    const sorted = [...this.all.values()].sort((a, b) => (active(a) < active(b) ? 1 : -1));
    const page = sorted.slice(start, start + 200);
    const next = start + 200 < sorted.length ? String(start + 200) : null;
    this.between();
    return Promise.resolve(answer(200, { items: page, next, cursor: null, profiles: {} }));
  };
}

const active = (one: Conversation) => one.last_message?.created_at ?? one.created_at;
const answer = (status: number, body: object) => ({
  ...(status < 300 ? { data: body } : { error: { status, title: "", ...body } }),
  response: new Response(null, { status }),
});

let service: Service;
let list: SeatList;
let kept: Map<string, Conversation>;
let written: Promise<unknown>;

function listOf(count: number): void {
  service = new Service(count);
  kept = new Map();
  written = Promise.resolve();
  const replica = {
    list: async (all: Conversation[]) => {
      kept = new Map(all.map((one) => [one.id, one]));
    },
    relist: async (changed: Conversation[], gone: string[]) => {
      for (const one of changed) kept.set(one.id, one);
      for (const id of gone) kept.delete(id);
    },
  };
  const owner = {
    userId: "mara",
    api: service,
    replica: replica as unknown as Replica,
    profiles: new Map<string, Profile>(),
    keep: (work: () => Promise<void>) => {
      written = written.then(work);
    },
    changed: () => {},
  };
  list = new SeatList(owner as unknown as ListOwner);
}

const set = (id: string, seq: number, minute: number) =>
  ({
    conversation_id: id,
    head: seq,
    floor: 1,
    messages: [{ seq, created_at: at(minute), author_id: "odd", removed_at: null, mentions: [] }],
    members: [],
    profiles: {},
  }) as unknown as ChangeSet;

const ids = () => list.conversations.map((one) => one.id);
const right = () =>
  [...service.all.values()].sort((a, b) => (active(a) < active(b) ? 1 : -1)).map((one) => one.id);

beforeEach(() => {
  vi.useFakeTimers();
  vi.stubGlobal("window", globalThis);
});

afterEach(() => list.end());

describe("the list of conversations", () => {
  it("is read whole once, and its first page is shown at once", async () => {
    listOf(1_000);
    const shown: number[] = [];
    service.between = () => shown.push(list.conversations.length);
    await list.read();
    expect(service.asked.length).toBe(5);
    expect(shown).toEqual([0, 200, 200, 200, 200]);
    expect([ids(), list.whole]).toEqual([right(), true]);
    await written;
    expect(kept.size).toBe(1_000);
  });

  it("asks for those that moved, and for no page where they are few", async () => {
    listOf(1_000);
    await list.read();
    for (const id of ["c3", "c500"]) service.put(id, { title: "another", head: 1 });
    service.put("c3", { last_message: { created_at: at(1_100) } as Conversation["last_message"] });
    service.asked.length = 0;
    await list.readMoved(["c3", "c500"]);
    expect(service.asked).toEqual(["c3", "c500"]);
    expect(ids()).toEqual(right());
    expect(list.conversations.find((one) => one.id === "c500")?.title).toBe("another");
    service.asked.length = 0;
    const many = Array.from({ length: 50 }, (_, n) => `c${n + 900}`);
    for (const id of many) service.put(id, { title: "moved" });
    await list.readMoved([...many, "c1"]);
    expect(service.asked).toEqual(["/v1/conversations@0", "c1"]);
    expect(list.conversations.filter((one) => one.title === "moved").length).toBe(50);
    await vi.runAllTimersAsync();
    await written;
    expect([...kept.values()].filter((one) => one.title === "moved").length).toBe(50);
  });

  it("loses nothing that comes while it is being read", async () => {
    listOf(600);
    let turns = 0;
    service.between = () => {
      turns += 1;
      if (turns === 2) {
        list.grow(set("c599", 1, 700), undefined, undefined);
        list.forget("c598");
      }
    };
    await list.read();
    expect(list.conversations[0]).toMatchObject({ id: "c599", head: 1, unread: 1 });
    expect(ids()).not.toContain("c598");
    expect(new Set(ids()).size).toBe(599);
  });

  it("is not whole after a page has failed, and says so", async () => {
    listOf(600);
    service.failAt = "400";
    await list.read();
    expect([list.whole, list.listed, list.problem]).toEqual([false, true, "away"]);
    expect(kept.size).toBe(0);
    service.failAt = null;
    await list.read();
    expect([list.whole, list.problem, ids().length]).toEqual([true, "", 600]);
  });

  it("takes in one that was joined, and lets go of one that was left or put away", async () => {
    listOf(3);
    await list.read();
    service.put("new", { created_at: at(1), my_role: "writer" });
    list.grow(set("new", 1, 1), undefined, undefined);
    service.put("c2", { my_role: null });
    service.put("c1", { my_hidden: true });
    for (const id of ["c1", "c2", "gone"]) list.refreshSoon(id);
    await vi.runAllTimersAsync();
    expect(ids()).toEqual(["new", "c0"]);
    await written;
    expect([...kept.keys()].sort()).toEqual(["c0", "new"]);
  });
});
