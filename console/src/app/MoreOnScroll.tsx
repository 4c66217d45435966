import { useEffect, useRef } from "react";
import { Button } from "./ui";

interface Found {
  hasNextPage: boolean;
  isFetchingNextPage: boolean;
  isFetchNextPageError: boolean;
  fetchNextPage: () => Promise<unknown>;
}

/** The end of a list that goes on: more is asked for as it comes into view, or by its button. */
export function MoreOnScroll({ found }: { found: Found }) {
  const end = useRef<HTMLLIElement>(null);
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = found;
  // One that has failed is asked for again by its button alone.
  const waits = !hasNextPage || isFetchingNextPage || found.isFetchNextPageError;
  useEffect(() => {
    const element = end.current;
    if (!element || waits) return;
    const seen = new IntersectionObserver(
      ([entry]) => {
        if (entry?.isIntersecting) void fetchNextPage();
      },
      { rootMargin: "200px" },
    );
    seen.observe(element);
    return () => seen.disconnect();
  }, [waits, fetchNextPage]);
  if (!hasNextPage) return null;
  return (
    <li ref={end} className="py-1">
      <Button disabled={isFetchingNextPage} onClick={() => void fetchNextPage()}>
        More
      </Button>
    </li>
  );
}
