import { type QueryKey, useInfiniteQuery } from "@tanstack/react-query";

/** A list over page cursors: `read` asks for the page at a cursor, null for the first; more is asked for by
 * `fetchNextPage`, as the end of what is there comes into view (`MoreOnScroll`). */
export function usePages<Page extends { next: string | null }>(
  queryKey: QueryKey,
  read: (cursor: string | null) => Promise<Page>,
  enabled = true,
) {
  return useInfiniteQuery({
    queryKey,
    queryFn: ({ pageParam }) => read(pageParam),
    initialPageParam: null as string | null,
    getNextPageParam: (last) => last.next,
    enabled,
  });
}

/** What a page is asked for with, beside what the list is of: a cursor stands for that. */
export const pageAt = (cursor: string | null): { limit: number; cursor?: string } => ({
  limit: 100,
  ...(cursor ? { cursor } : {}),
});
