import type { ReactNode } from "react";
import Markdown from "react-markdown";
import rehypeSanitize from "rehype-sanitize";
import { messageSyntax } from "../lib/syntax";

/** Markdown as a safe subset of elements (docs/markdown.md); pictures are links. */
export function Prose({ children, beside }: { children: string; beside?: ReactNode }) {
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
