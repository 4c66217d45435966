import { readFileSync } from "node:fs";
import { renderToStaticMarkup } from "react-dom/server";
import { describe, expect, it } from "vitest";
import { Prose } from "./Prose";

type Vector = { name: string; body: string; html: string };

const { vectors } = JSON.parse(readFileSync("../docs/vectors/markdown.json", "utf8")) as {
  vectors: Vector[];
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

it("makes links of bare addresses", () => {
  expect(renderToStaticMarkup(<Prose>see https://skerry.example/a now</Prose>)).toContain(
    '<a href="https://skerry.example/a"',
  );
});
