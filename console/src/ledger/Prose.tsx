import type { ReactNode } from "react";
import Markdown from "react-markdown";
import rehypeSanitize from "rehype-sanitize";
import { Boundary } from "../app/Boundary";
import { isCostly } from "../lib/costly";
import { messageSyntax } from "../lib/syntax";

/** Markdown as a safe subset of elements (docs/markdown.md); pictures are links. What is too costly to draw, or cannot
 * be drawn, is shown as it was written. */
export function Prose({ children, beside }: { children: string; beside?: ReactNode }) {
  if (isCostly(children)) return <AsWritten {...{ children, beside }} />;
  return (
    <Boundary of={children} instead={() => <AsWritten {...{ children, beside }} />}>
      <Drawn {...{ children, beside }} />
    </Boundary>
  );
}

function AsWritten({ children, beside }: { children: string; beside?: ReactNode }) {
  return (
    <div className="whitespace-pre-wrap">
      {children}
      {beside}
    </div>
  );
}

function Drawn({ children, beside }: { children: string; beside?: ReactNode }) {
  return (
    <div className="prose">
      <Markdown
        remarkPlugins={[messageSyntax]}
        rehypePlugins={[rehypeSanitize]}
        components={{ img: PictureLink, a: Outward }}
      >
        {children}
      </Markdown>
      {beside}
    </div>
  );
}

/** What a link may lead to; the words of another stand alone. */
const FOLLOWED = /^(?:https?:\/\/|mailto:)/i;

function Outward({ href, children }: { href?: string | undefined; children?: ReactNode }) {
  if (!href || !FOLLOWED.test(href)) return children;
  return (
    <a href={href} rel="noreferrer noopener" target="_blank">
      {children}
    </a>
  );
}

/** A picture from anywhere would tell its host who reads this, and when: it is a link instead. */
function PictureLink({ src, alt }: { src?: unknown; alt?: string | undefined }) {
  const address = typeof src === "string" ? src : "";
  return <Outward href={address}>{alt || address || "a picture"}</Outward>;
}
