import { type DBSchema, deleteDB, type IDBPDatabase, type IDBPTransaction, openDB } from "idb";
import type {
  Attachment,
  ChangeSet,
  Conversation,
  HistoryPage,
  Member,
  Message,
  Profile,
} from "../api/client";
import type { Entry } from "./outbox";

/** What is held of a conversation beside its rows; `named`: in the sync from nothing that is under way. */
export type Held = { id: string; head: number; floor: number; cursor: string | null; named: boolean };

interface Tables extends DBSchema {
  meta: { key: string; value: string };
  places: { key: string; value: Held };
  listed: { key: string; value: Conversation };
  messages: { key: [string, number]; value: Message };
  members: { key: [string, string]; value: Member };
  profiles: { key: string; value: Profile };
  outbox: { key: number; value: Entry };
  /** Small pictures, by conversation, number, attachment and width: they go with their message. */
  previews: { key: [string, number, string, number]; value: Blob };
  /** Conversations of which something was taken in, or which were dropped, that the cursor may not cover; and when. */
  touched: { key: string; value: number };
}

const STORES = [
  "meta",
  "places",
  "listed",
  "messages",
  "members",
  "profiles",
  "outbox",
  "touched",
  "previews",
] as const;
type Store = (typeof STORES)[number];
type Writing = IDBPTransaction<Tables, Store[], "readwrite">;

/** An answer of `POST /resync`. */
export type ResyncAnswer = {
  items: ChangeSet[];
  joined: string[];
  gone: string[];
  cursor: string;
  more: boolean;
  reset: boolean;
  begins: boolean;
  rewound: boolean;
};

/** After so long a checkpoint covers what was taken in before it: the snapshot that it speaks for is older than it. */
const COVERED_MS = 60_000;

/** A row never goes back: the one with the higher `rev` stays, and of equal ones the later. */
export const isNewer = (row: { rev: number }, held: { rev: number } | undefined): boolean =>
  !held || held.rev <= row.rev;

/**
 * A member's conversations in this browser (IndexedDB). Each method that writes is one transaction: the rows of a
 * change set and the cursor behind it are there together or not at all.
 */
export class Replica {
  private constructor(private readonly db: IDBPDatabase<Tables>) {}

  static async open(member: string): Promise<Replica> {
    return new Replica(
      await openDB<Tables>(`nestrel.replica.${member}`, 3, {
        // Signing out in another page deletes it: nobody holds that up.
        blocking: (_current, _blocked, event) => (event.target as IDBDatabase).close(),
        upgrade(db, before) {
          if (before < 2) db.createObjectStore("touched");
          db.createObjectStore("previews");
          if (before >= 1) return;
          db.createObjectStore("meta");
          db.createObjectStore("places", { keyPath: "id" });
          db.createObjectStore("listed", { keyPath: "id" });
          db.createObjectStore("messages", { keyPath: ["conversation_id", "seq"] });
          db.createObjectStore("members");
          db.createObjectStore("profiles", { keyPath: "user_id" });
          db.createObjectStore("outbox", { keyPath: "n", autoIncrement: true });
        },
      }),
    );
  }

  /** Forget everything of a member; for signing out. */
  static forget(member: string): Promise<void> {
    return deleteDB(`nestrel.replica.${member}`);
  }

  close(): void {
    this.db.close();
  }

  private async write(work: (tx: Writing) => Promise<void>): Promise<void> {
    const tx = this.db.transaction([...STORES], "readwrite");
    try {
      await work(tx);
    } catch (error) {
      tx.abort();
      await tx.done.catch(() => {});
      throw error;
    }
    await tx.done;
  }

  // Taking in

  /** Take in an answer of a resync, with its cursor. */
  async answer(found: ResyncAnswer): Promise<void> {
    await this.write(async (tx) => {
      const meta = tx.objectStore("meta");
      const whole = await meta.get("whole");
      if (found.reset && (found.begins || whole === undefined)) {
        await meta.put("1", "whole");
        await forgetRevs(tx);
        for (const place of await tx.objectStore("places").getAll())
          await tx.objectStore("places").put({ ...place, named: false });
      }
      if (!found.reset && whole !== undefined) await endWhole(tx);
      for (const id of found.gone) await drop(tx, id);
      for (const item of found.items) await take(tx, item);
      if (found.reset) {
        for (const id of found.joined) {
          const place = await tx.objectStore("places").get(id);
          if (place) await tx.objectStore("places").put({ ...place, named: true });
        }
        if (!found.more) await endWhole(tx);
      }
      await meta.put(found.cursor, "cursor");
    });
  }

  /** Take in one change set; again, it changes nothing. */
  changes(set: ChangeSet): Promise<void> {
    return this.write((tx) => take(tx, set));
  }

  /** Everything up to this all cursor has been taken in. */
  checkpoint(cursor: string): Promise<void> {
    return this.write(async (tx) => {
      await tx.objectStore("meta").put(cursor, "cursor");
      const touched = tx.objectStore("touched");
      for (const id of await touched.getAllKeys())
        if (((await touched.get(id)) ?? 0) <= Date.now() - COVERED_MS) await touched.delete(id);
    });
  }

  /** The store was restored or failed over. What was taken in behind the cursor may be lost, an end of membership too:
   * the conversations of which anything was are to be fetched anew. */
  async rewind(): Promise<string[]> {
    await this.write(forgetRevs);
    return this.touched();
  }

  /** The conversations of which something was taken in lately: a page that was closed may not have kept its list since. */
  touched(): Promise<string[]> {
    return this.db.getAllKeys("touched");
  }

  /** Keep nothing of a conversation that is the member's no more. */
  drop(id: string): Promise<void> {
    return this.write((tx) => drop(tx, id));
  }

  /** Take in a page of history, where the conversation is held. */
  page(id: string, page: HistoryPage): Promise<void> {
    return this.write(async (tx) => {
      const place = await tx.objectStore("places").get(id);
      if (!place) return;
      await rows(tx, page.items, Object.values(page.profiles));
      await bound(tx, place, page.head, page.floor);
      await touch(tx, id);
    });
  }

  /** Keep the list of conversations, which has been read whole. */
  list(conversations: Conversation[], profiles: Iterable<Profile>): Promise<void> {
    return this.write(async (tx) => {
      const listed = tx.objectStore("listed");
      await listed.clear();
      for (const one of conversations) await listed.put(one);
      await rows(tx, [], [...profiles]);
      await tx.objectStore("meta").put("1", "listed");
    });
  }

  /** Keep those of the list that have changed, and those not that have gone from it. */
  relist(changed: Conversation[], gone: string[]): Promise<void> {
    return this.write(async (tx) => {
      for (const one of changed) await tx.objectStore("listed").put(one);
      for (const id of gone) await tx.objectStore("listed").delete(id);
    });
  }

  // Reading

  async cursor(): Promise<string | null> {
    return (await this.db.get("meta", "cursor")) ?? null;
  }

  /** The list as it was kept; `whole`, where it has once been read to its end. */
  async listed(): Promise<{ conversations: Conversation[]; profiles: Profile[]; whole: boolean }> {
    const [conversations, profiles, whole] = await Promise.all([
      this.db.getAll("listed"),
      this.db.getAll("profiles"),
      this.db.get("meta", "listed"),
    ]);
    const at = (one: Conversation) => one.last_message?.created_at ?? one.created_at;
    conversations.sort((a, b) => (at(a) < at(b) ? 1 : -1));
    return { conversations, profiles, whole: whole !== undefined };
  }

  place(id: string): Promise<Held | undefined> {
    return this.db.get("places", id);
  }

  /** Messages held from one number to another, both included, the `limit` newest of them, by number. */
  async messages(id: string, from: number, to: number, limit: number): Promise<Message[]> {
    const found: Message[] = [];
    if (from > to) return found;
    let cursor = await this.db
      .transaction("messages")
      .store.openCursor(IDBKeyRange.bound([id, from], [id, to]), "prev");
    while (cursor && found.length < limit) {
      found.push(cursor.value);
      cursor = await cursor.continue();
    }
    return found.reverse();
  }

  members(id: string): Promise<Member[]> {
    return this.db.getAll("members", IDBKeyRange.bound([id, ""], [id, "\uffff"]));
  }

  // The outbox

  entries(): Promise<Entry[]> {
    return this.db.getAll("outbox");
  }

  /** Take a command; returns its place in the order. A receipt takes the place of one that waits. */
  async put(entry: Omit<Entry, "n">): Promise<number> {
    let n = 0;
    await this.write(async (tx) => {
      const outbox = tx.objectStore("outbox");
      if (entry.kind === "read")
        for (const one of await outbox.getAll())
          if (one.kind === "read" && one.conversation_id === entry.conversation_id)
            await outbox.delete(one.n);
      n = await outbox.add(entry as Entry);
    });
    return n;
  }

  /** The service has carried a command out: it goes, and the message that it made comes, in one step. */
  settled(n: number, message: Message | null, later: Entry[] = []): Promise<void> {
    return this.write(async (tx) => {
      await tx.objectStore("outbox").delete(n);
      for (const entry of later) await tx.objectStore("outbox").put(entry);
      const place = message && (await tx.objectStore("places").get(message.conversation_id));
      if (!place) return; // it came behind the end of what it is of
      await rows(tx, [message], []);
      await bound(tx, place, message.seq, place.floor);
      await touch(tx, message.conversation_id);
    });
  }

  // Pictures

  preview(id: string, seq: number, attachment: string, width: number): Promise<Blob | undefined> {
    return this.db.get("previews", [id, seq, attachment, width]);
  }

  /** Keep a small picture, if its message is held and still has it. */
  keepPreview(id: string, seq: number, attachment: string, width: number, content: Blob): Promise<void> {
    return this.write(async (tx) => {
      const held = await tx.objectStore("messages").get([id, seq]);
      if (held?.attachments.some((one) => one.attachment_id === attachment))
        await tx.objectStore("previews").put(content, [id, seq, attachment, width]);
    });
  }

  async refused(entry: Entry): Promise<void> {
    await this.db.put("outbox", entry);
  }
}

async function placeOf(tx: Writing, id: string): Promise<Held> {
  return (await tx.objectStore("places").get(id)) ?? { id, head: 0, floor: 1, cursor: null, named: true };
}

const range = (id: string, from = 0, to = Number.MAX_SAFE_INTEGER) => IDBKeyRange.bound([id, from], [id, to]);

const pictures = (id: string, to = Number.MAX_SAFE_INTEGER) =>
  IDBKeyRange.bound([id, 0, "", 0], [id, to, "\uffff", Number.MAX_SAFE_INTEGER]);

async function take(tx: Writing, set: ChangeSet): Promise<void> {
  let place = await placeOf(tx, set.conversation_id);
  if (set.reset) {
    await clear(tx, set.conversation_id);
    place = { ...place, head: 0, floor: 1 };
  }
  await rows(tx, set.messages, Object.values(set.profiles));
  const members = tx.objectStore("members");
  for (const member of set.members) {
    const key: [string, string] = [set.conversation_id, member.user_id];
    const held = await members.get(key);
    if (isNewer(member, held)) await members.put(member, key);
  }
  await bound(tx, { ...place, cursor: set.cursor }, set.head, set.floor);
  await touch(tx, set.conversation_id);
}

async function touch(tx: Writing, id: string): Promise<void> {
  await tx.objectStore("touched").put(Date.now(), id);
}

/** Profiles of another history may carry a higher `rev` than any that comes now. */
async function forgetRevs(tx: Writing): Promise<void> {
  const profiles = tx.objectStore("profiles");
  for (const one of await profiles.getAll()) await profiles.put({ ...one, rev: 0 });
}

const previewsOf = (id: string, seq: number, one: Attachment) =>
  IDBKeyRange.bound([id, seq, one.attachment_id, 0], [id, seq, one.attachment_id, Number.MAX_SAFE_INTEGER]);

async function rows(tx: Writing, messages: Message[], profiles: Profile[]): Promise<void> {
  for (const message of messages) {
    const held = await tx.objectStore("messages").get([message.conversation_id, message.seq]);
    if (!isNewer(message, held)) continue;
    await tx.objectStore("messages").put(message);
    for (const one of held?.attachments ?? [])
      if (!message.attachments.some((kept) => kept.attachment_id === one.attachment_id))
        await tx.objectStore("previews").delete(previewsOf(message.conversation_id, message.seq, one));
  }
  for (const profile of profiles) {
    const held = await tx.objectStore("profiles").get(profile.user_id);
    if (isNewer(profile, held)) await tx.objectStore("profiles").put(profile);
  }
}

async function bound(tx: Writing, place: Held, head: number, floor: number): Promise<void> {
  const moved = { ...place, head: Math.max(place.head, head), floor: Math.max(place.floor, floor) };
  await tx.objectStore("places").put(moved);
  if (moved.floor === 1) return;
  await tx.objectStore("messages").delete(range(place.id, 0, moved.floor - 1));
  await tx.objectStore("previews").delete(pictures(place.id, moved.floor - 1));
}

async function clear(tx: Writing, id: string): Promise<void> {
  await tx.objectStore("messages").delete(range(id));
  await tx.objectStore("previews").delete(pictures(id));
  await tx.objectStore("members").delete(IDBKeyRange.bound([id, ""], [id, "\uffff"]));
}

async function drop(tx: Writing, id: string): Promise<void> {
  await clear(tx, id);
  await tx.objectStore("places").delete(id);
  await tx.objectStore("listed").delete(id);
  await touch(tx, id);
}

/** The end of a sync from nothing: what it did not name is not the member's any more. */
async function endWhole(tx: Writing): Promise<void> {
  for (const place of await tx.objectStore("places").getAll()) if (!place.named) await drop(tx, place.id);
  await tx.objectStore("meta").delete("whole");
}
