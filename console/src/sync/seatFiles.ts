import { type Attachment, type ProblemDocument, Refusal } from "../api/client";
import { LineBroken } from "./line";
import type { Enclosed } from "./outbox";
import type { Replica } from "./replica";
import { wireLog } from "./wireLog";

/** Small pictures whose addresses a page keeps; the rest are in the replica. */
const HELD = 300;

export type Width = 320 | 960;
/** A picture of a message. */
export type Place = { conversation: string; seq: number; attachment: string; width: Width };

/** A member's files: sent with their progress, and pictures fetched with this member's own token. */
export class SeatFiles {
  private readonly pictures = new Map<string, Promise<string>>();

  constructor(
    private readonly member: string,
    private readonly token: () => string,
    private readonly check: () => void,
    private readonly replica: Replica,
  ) {}

  end(): void {
    for (const picture of this.pictures.values()) void forget(picture);
    this.pictures.clear();
  }

  /** Send a file; `onPart` is told how much of it has gone, from 0 to 1. Rejects with a `Refusal`, or `LineBroken`. */
  async upload(conversation: string, file: Enclosed, onPart: (part: number) => void): Promise<Attachment> {
    this.check();
    const where = `/v1/conversations/${conversation}/attachments`;
    const note = { member: this.member, door: "http" } as const;
    wireLog.note(
      { ...note, way: "out", what: `POST ${where}`, ms: null },
      `${file.name}, ${file.content.size} bytes`,
    );
    const began = performance.now();
    const { status, text } = await sent(where, this.token(), file, onPart);
    const ms = performance.now() - began;
    wireLog.note({ ...note, way: "in", what: `${status} ${where}`, ms }, text);
    if (status === 200 || status === 201) return JSON.parse(text) as Attachment;
    throw new Refusal(problemOf(status, text));
  }

  /** The address of a small picture in this page; there without a network once it was fetched. Rejects when it cannot be
   * had. */
  picture(place: Place): Promise<string> {
    const key = JSON.stringify(place);
    const held = this.pictures.get(key);
    if (held) return held;
    const coming = this.fetched(place).then((content) => URL.createObjectURL(content));
    this.pictures.set(key, coming);
    coming.catch(() => this.pictures.delete(key));
    const [oldest] = this.pictures;
    if (oldest && this.pictures.size > HELD) {
      this.pictures.delete(oldest[0]);
      void forget(oldest[1]);
    }
    return coming;
  }

  private async fetched({ conversation, seq, attachment, width }: Place): Promise<Blob> {
    const held = await this.replica.preview(conversation, seq, attachment, width);
    if (held) return held;
    this.check();
    const answer = await fetch(
      `/v1/conversations/${conversation}/attachments/${attachment}/preview?width=${width}`,
      { headers: { Authorization: `Bearer ${this.token()}` } },
    );
    if (!answer.ok) throw new Refusal(problemOf(answer.status, await answer.text()));
    const content = await answer.blob();
    await this.replica.keepPreview(conversation, seq, attachment, width, content);
    return content;
  }
}

async function forget(picture: Promise<string>): Promise<void> {
  try {
    URL.revokeObjectURL(await picture);
  } catch {
    // it never came
  }
}

/** XMLHttpRequest, for `fetch` does not say how much has gone. */
function sent(
  where: string,
  token: string,
  file: Enclosed,
  onPart: (part: number) => void,
): Promise<{ status: number; text: string }> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", where);
    request.setRequestHeader("Authorization", `Bearer ${token}`);
    request.setRequestHeader("Content-Type", "application/octet-stream");
    request.setRequestHeader(
      "Content-Disposition",
      `attachment; filename*=UTF-8''${encodeURIComponent(file.name).replace(/['()*]/g, escaped)}`,
    );
    request.upload.onprogress = (event) => onPart(event.total ? event.loaded / event.total : 0);
    request.onload = () => resolve({ status: request.status, text: request.responseText });
    request.onerror = () => reject(new LineBroken("the file could not be sent"));
    request.onabort = request.onerror;
    request.send(file.content);
  });
}

/** What `encodeURIComponent` leaves and RFC 8187 does not allow. */
const escaped = (one: string): string => `%${one.charCodeAt(0).toString(16).toUpperCase()}`;

function problemOf(status: number, text: string): ProblemDocument {
  try {
    const found = JSON.parse(text) as Partial<ProblemDocument>;
    if (typeof found.detail === "string") return { ...found, status } as ProblemDocument;
  } catch {
    // no document
  }
  return { type: "about:blank", title: "refused", status, detail: `the service answered ${status}` };
}
