/** Writing Markdown by keyboard: what a key makes of a field. Every function answers null where it has nothing to do. */

export type Field = { text: string; start: number; end: number };

const ITEM = /^(\s*)(?:([-*+])|(\d{1,9})([.)]))( +)(\[[ xX]\] +)?/;
const FENCE = /^ {0,3}(`{3,}|~{3,})/;

const lineStart = (text: string, at: number): number => text.lastIndexOf("\n", at - 1) + 1;

/** Whether a place is within a fenced block of code; its fences are not. */
export function inCode(text: string, at: number): boolean {
  let open: string | null = null;
  if (FENCE.test(text.slice(lineStart(text, at)).split("\n", 1)[0] ?? "")) return false;
  for (const line of text.slice(0, lineStart(text, at)).split("\n")) {
    const fence = FENCE.exec(line)?.[1];
    if (!fence) continue;
    if (open === null) open = fence;
    else if (fence[0] === open[0] && fence.length >= open.length) open = null;
  }
  return open !== null;
}

/** A line break that goes on with what stands there: the next item of a list, or out of it from an empty one; the body
 * of a block of code whose fence has just been written, closed behind it. */
export function broken({ text, start, end }: Field): Field | null {
  const from = lineStart(text, start);
  const line = text.slice(from, start);
  const rest = text.slice(end);
  const fence = FENCE.exec(line)?.[1];
  if (fence && !inCode(text, start) && !rest.includes(fence)) {
    const before = `${text.slice(0, start)}\n`;
    return at(`${before}\n${fence}${rest.startsWith("\n") || rest === "" ? "" : "\n"}${rest}`, before.length);
  }
  const item = ITEM.exec(line);
  if (!item || inCode(text, start)) return null;
  const [whole, indent = "", bullet, number, point, space, box] = item;
  if (line.length === whole.length) return at(text.slice(0, from) + rest, from);
  const marker = bullet ?? `${Number(number) + 1}${point}`;
  const begun = `${text.slice(0, start)}\n${indent}${marker}${space}${box ? "[ ] " : ""}`;
  return at(begun + rest, begun.length);
}

/** An item of a list, or a line of code, two places further in, or out. */
export function indented({ text, start, end }: Field, out: boolean): Field | null {
  const from = lineStart(text, start);
  const line = text.slice(from).split("\n", 1)[0] ?? "";
  if (!ITEM.test(line) && !inCode(text, start)) return null;
  const moved = out ? line.replace(/^ {1,2}/, "") : `  ${line}`;
  const by = moved.length - line.length;
  return {
    text: text.slice(0, from) + moved + text.slice(from + line.length),
    start: Math.max(from, start + by),
    end: Math.max(from, end + by),
  };
}

/** An address that is pasted over words makes a link of them. */
export function linked({ text, start, end }: Field, pasted: string): Field | null {
  const address = pasted.trim();
  const words = text.slice(start, end);
  if (start === end || words.includes("\n") || !/^https?:\/\/\S+$/.test(address)) return null;
  const link = `[${words.replace(/([\\[\]])/g, "\\$1")}](${target(address)})`;
  return at(text.slice(0, start) + link + text.slice(end), start + link.length);
}

/** Pasted text whose links stay links; null where it has none. */
export function fromHtml(html: string): string | null {
  const page = new DOMParser().parseFromString(html, "text/html");
  let links = 0;
  const said = (node: Node): string => {
    if (node instanceof Text) return (node.textContent ?? "").replace(/\s+/g, " ");
    if (!(node instanceof Element) || ["SCRIPT", "STYLE", "TITLE"].includes(node.tagName)) return "";
    const inner = [...node.childNodes].map(said).join("");
    const address = node.tagName === "A" ? (node.getAttribute("href") ?? "") : "";
    if (/^https?:\/\//.test(address) && inner.trim()) {
      links += 1;
      return `[${inner.trim().replace(/([\\[\]])/g, "\\$1")}](${target(address)})`;
    }
    if (node.tagName === "BR") return "\n";
    if (node.tagName === "LI") return `- ${inner.trim()}\n`;
    return /^(P|DIV|H[1-6]|UL|OL|TR|TABLE|BLOCKQUOTE|PRE)$/.test(node.tagName) ? `${inner.trim()}\n` : inner;
  };
  const text = said(page.body).trim();
  return links > 0 ? text : null;
}

const target = (address: string): string => (/[()\s<>]/.test(address) ? `<${encodeURI(address)}>` : address);

const at = (text: string, caret: number): Field => ({ text, start: caret, end: caret });
