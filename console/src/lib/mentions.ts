/** Someone who can be named in a message. */
export type Nameable = { userId: string; name: string };

/** A run of a body: plain text, or the name of someone. */
export type Part = { text: string; userId: string | null };

const LETTER = /[\p{L}\p{N}_]/u;
const BEGINS_WITH_ONE = /^[\p{L}\p{N}_]/u;

/** A body in its parts: `@` and the name of one of `people` names them. The longest name counts, and it ends with a
 * word. Of several who are called the same the first of `people` is meant. */
export function partsOf(body: string, people: Nameable[]): Part[] {
  const longest = [...people].sort((a, b) => b.name.length - a.name.length);
  const parts: Part[] = [];
  let plain = 0;
  for (let at = body.indexOf("@"); at >= 0; at = body.indexOf("@", at + 1)) {
    if (at > 0 && LETTER.test(body[at - 1] as string)) continue; // an address, not a name
    const one = longest.find(({ name }) => {
      const end = at + 1 + name.length;
      return name !== "" && body.startsWith(name, at + 1) && !BEGINS_WITH_ONE.test(body.slice(end));
    });
    if (!one) continue;
    if (at > plain) parts.push({ text: body.slice(plain, at), userId: null });
    plain = at + 1 + one.name.length;
    parts.push({ text: body.slice(at, plain), userId: one.userId });
    at = plain - 1;
  }
  if (plain < body.length) parts.push({ text: body.slice(plain), userId: null });
  return parts;
}

/** Who is named in a body, each once, in the order in which they are. */
export function namedIn(body: string, people: Nameable[]): string[] {
  return [...new Set(partsOf(body, people).flatMap(({ userId }) => (userId === null ? [] : [userId])))];
}

/** Who an edited message names: those in its new body, and those whom it named before without their name in the body. */
export function renamed(mentions: string[], before: string, after: string, people: Nameable[]): string[] {
  const written = namedIn(before, people);
  return [...new Set([...mentions.filter((one) => !written.includes(one)), ...namedIn(after, people)])];
}

/** What is being typed behind an `@` in front of the caret, to look a person up by; null where nobody is named. */
export function soughtAt(body: string, caret: number): { from: number; text: string } | null {
  const found = /(?:^|[^\p{L}\p{N}_])@([\p{L}\p{N}_.'-]*(?: [\p{L}\p{N}_.'-]*)?)$/u.exec(
    body.slice(0, caret),
  );
  if (!found) return null;
  const text = found[1] ?? "";
  return { from: caret - text.length - 1, text };
}

const plainly = (text: string): string =>
  text.normalize("NFKD").replace(/\p{M}/gu, "").toLocaleLowerCase().trim();

/** Those of `people` with a word that begins with what was typed, by name. */
export function matching(people: Nameable[], text: string, most: number): Nameable[] {
  const wanted = plainly(text);
  const begins = ({ name, userId }: Nameable) =>
    plainly(name).startsWith(wanted) ||
    plainly(`${name} ${userId}`)
      .split(/[^\p{L}\p{N}_]+/u)
      .some((word) => word.startsWith(wanted));
  return people
    .filter(begins)
    .sort((a, b) => a.name.localeCompare(b.name))
    .slice(0, most);
}
