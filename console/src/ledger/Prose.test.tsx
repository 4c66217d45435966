import { readFileSync } from "node:fs";
import { renderToStaticMarkup } from "react-dom/server";
import { describe, expect, it } from "vitest";
import { isCostly } from "../lib/costly";
import { Prose } from "./Prose";

type Vector = { name: string; body: string; html: string };
type Cost = { name: string; repeat: [string, number][]; as_written: boolean };

const { vectors, costs } = JSON.parse(readFileSync("../docs/vectors/markdown.json", "utf8")) as {
  vectors: Vector[];
  costs: Cost[];
};

/** The elements alone: no attributes of how they look, no white space between blocks. */
const bare = (html: string): string =>
  html
    .replace(/^<div class="prose">|<\/div>$/g, "")
    .replace(/ (?:rel|target|class|style)="[^"]*"/g, "")
    .replace(/<(br|hr)\/>/g, "<$1>")
    .replace(/(<br>|<\/?(?:ul|ol|li|table|thead|tbody|tr|th|td|blockquote|p|h1|pre)(?: [^>]*)?>)\n/g, "$1")
    .replace(/\n(<\/?(?:ul|ol|li|table|thead|tbody|tr|th|td|blockquote|p|h1|hr|pre)[ >])/g, "$1");

describe("Markdown is what docs/vectors/markdown.json says", () => {
  for (const { name, body, html } of vectors)
    it(name, () => expect(bare(renderToStaticMarkup(<Prose>{body}</Prose>))).toBe(html));
});

describe("what is too costly is shown as it was written", () => {
  for (const { name, repeat, as_written } of costs)
    it(name, () => {
      const body = repeat.map(([text, times]) => text.repeat(times)).join("");
      expect(isCostly(body)).toBe(as_written);
      const html = renderToStaticMarkup(<Prose>{body}</Prose>);
      expect(html.startsWith('<div class="whitespace-pre-wrap">')).toBe(as_written);
    });
});

it("makes links of bare addresses", () => {
  expect(renderToStaticMarkup(<Prose>see https://skerry.example/a now</Prose>)).toContain(
    '<a href="https://skerry.example/a"',
  );
});
