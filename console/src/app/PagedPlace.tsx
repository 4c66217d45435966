import type { ReactNode } from "react";
import { Button } from "./ui";

/** What a query that goes on page by page is known by here. */
interface Found {
  error: Error | null;
  hasNextPage: boolean;
  fetchNextPage: () => Promise<unknown>;
}

/** A place that shows pages of one list: what stands at its head, what went wrong, the list, and a way to more of it. */
export function PagedPlace(props: {
  head: ReactNode;
  found: Found;
  problem?: string;
  more: string;
  children: ReactNode;
}) {
  const wrong = props.problem || props.found.error?.message;
  return (
    <main className="grid min-h-0 grid-cols-[minmax(0,1fr)] grid-rows-[auto_1fr]">
      <div className="flex flex-wrap items-center gap-3 border-b border-line px-3 py-2">{props.head}</div>
      <div className="min-h-0 overflow-auto">
        {wrong && (
          <p role="alert" className="p-3 text-buoy">
            {wrong}
          </p>
        )}
        {props.children}
        {props.found.hasNextPage && (
          <div className="p-3">
            <Button onClick={() => void props.found.fetchNextPage()}>{props.more}</Button>
          </div>
        )}
      </div>
    </main>
  );
}

/** The heads of a table's columns; `last` is one that only a screen reader says. */
export function Columns({ names, last }: { names: string[]; last?: string }) {
  return (
    <thead>
      <tr className="border-b border-line text-left text-xs text-faint">
        {names.map((name) => (
          <th key={name} scope="col" className="px-3 py-1 font-normal">
            {name}
          </th>
        ))}
        {last && (
          <th scope="col">
            <span className="sr-only">{last}</span>
          </th>
        )}
      </tr>
    </thead>
  );
}
