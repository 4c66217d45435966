/** What Markdown costs whoever shows it, as core/markdown.py has it: docs/vectors/markdown.json holds both to the same. */

const DEPTH = 40;
const WEIGHT = 2000;

const CONTAINERS = /^(?:[ \t]*(?:>|[-+*](?=[ \t]|$)|[0-9]{1,9}[.)](?=[ \t]|$)))*/;
const CONTAINER = />|[-+*]|[0-9]+[.)]/g;
const INLINE = /\*+|_+|~+|`+|[[\]<]/g;
const DIVIDER = /^[-|: \t]+$/;
const TAB = 4;

const count = (text: string, of: RegExp): number => text.match(of)?.length ?? 0;

function columnsOf(blank: string): number {
  let columns = 0;
  for (const character of blank) columns += character === "\t" ? TAB - (columns % TAB) : 1;
  return columns;
}

function depthOf(containers: string): number {
  const marks = count(containers, CONTAINER);
  if (marks === 0) return 0;
  return marks + Math.floor(columnsOf(/^[ \t]*/.exec(containers)?.[0] ?? "") / 2);
}

/** How deep a body is nested at most, and what its lines, marks and cells of tables are in sum. */
export function weigh(body: string): [number, number] {
  let [deepest, weight, columns, before] = [0, 0, 0, ""];
  for (const line of body.split(/\r\n|\r|\n/)) {
    const begin = CONTAINERS.exec(line)?.[0] ?? "";
    const rest = line.slice(begin.length);
    deepest = Math.max(deepest, depthOf(begin));
    weight += count(begin, CONTAINER) + count(rest, INLINE);
    if (/^[ \t]*$/.test(rest)) {
      columns = 0;
      before = "";
      continue;
    }
    weight += 1;
    if (columns > 0) weight += columns;
    else if (rest.includes("-") && (before + rest).includes("|") && DIVIDER.test(rest)) {
      columns = rest.split("|").length;
      weight += 2 * columns;
    }
    before = rest;
  }
  return [deepest, weight];
}

/** Whether a body is shown as the text that it is, as a page could not show it as Markdown in good time. */
export function isCostly(body: string): boolean {
  const [deepest, weight] = weigh(body);
  return deepest > DEPTH || weight > WEIGHT;
}
