import { gfmAutolinkLiteralFromMarkdown } from "mdast-util-gfm-autolink-literal";
import { gfmStrikethroughFromMarkdown } from "mdast-util-gfm-strikethrough";
import { gfmTableFromMarkdown } from "mdast-util-gfm-table";
import { gfmAutolinkLiteral } from "micromark-extension-gfm-autolink-literal";
import { gfmStrikethrough } from "micromark-extension-gfm-strikethrough";
import { gfmTable } from "micromark-extension-gfm-table";
import type { Processor } from "unified";

/** The Markdown of messages (docs/markdown.md): CommonMark with tables, strike-through and bare addresses. There is no
 * HTML in it: what looks like some is text, and nothing of what was written is lost. */
export function messageSyntax(this: Processor): void {
  const data = this.data() as { micromarkExtensions?: unknown[]; fromMarkdownExtensions?: unknown[] };
  data.micromarkExtensions ??= [];
  data.fromMarkdownExtensions ??= [];
  data.micromarkExtensions.push(
    { disable: { null: ["htmlFlow", "htmlText"] } },
    gfmTable(),
    gfmStrikethrough({ singleTilde: false }),
    gfmAutolinkLiteral(),
  );
  data.fromMarkdownExtensions.push(
    gfmTableFromMarkdown(),
    gfmStrikethroughFromMarkdown(),
    gfmAutolinkLiteralFromMarkdown(),
  );
}
