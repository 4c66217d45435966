import { useInfiniteQuery } from "@tanstack/react-query";
import { type KeyboardEvent, useDeferredValue, useEffect, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { answered, type Profile } from "../api/client";
import { PersonField } from "../app/PersonField";
import { useSeat } from "../app/seatContext";
import { Button, field } from "../app/ui";
import { useObservable } from "../app/useObservable";
import { counted, titleOf } from "../lib/format";
import { type Hit, HitRow } from "./HitRow";

const SHOWN = 50;

/** The instant at which a day begins here. */
const dayStart = (day: string, later = 0): string => {
  const [year, month, date] = day.split("-").map(Number) as [number, number, number];
  return new Date(year, month - 1, date + later).toISOString();
};

/** Search all that one may read: one box and its filters; a hit opens the ledger at its number. */
export function SearchPage() {
  const { seat } = useSeat();
  useObservable(seat);
  const [query] = useSearchParams();
  const [typed, setTyped] = useState(query.get("q") ?? "");
  const [place, setPlace] = useState("");
  const [author, setAuthor] = useState<Profile[]>([]);
  const [from, setFrom] = useState("");
  const [to, setTo] = useState("");
  const list = useRef<HTMLOListElement>(null);
  const box = useRef<HTMLInputElement>(null);
  const asked = useDeferredValue(typed.trim());
  const filters = {
    ...(place ? { conversation_id: place } : {}),
    ...(author[0] ? { author: author[0].user_id } : {}),
    ...(from ? { from: dayStart(from) } : {}),
    ...(to ? { to: dayStart(to, 1) } : {}),
  };
  const found = useInfiniteQuery({
    queryKey: ["search", asked, filters, seat.userId],
    queryFn: ({ pageParam }) => {
      const query = pageParam ? { cursor: pageParam, limit: SHOWN } : { q: asked, limit: SHOWN, ...filters };
      return answered(seat.api.GET("/v1/search", { params: { query } }));
    },
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    enabled: asked !== "",
    retry: false,
  });
  const pages = asked === "" ? [] : (found.data?.pages ?? []);
  const hits = pages.flatMap((page) => page.items as Hit[]);
  const { hasNextPage, isFetching, fetchNextPage } = found;
  const wantsMore = asked !== "" && hasNextPage && !isFetching && hits.length < SHOWN;
  useEffect(() => {
    if (wantsMore) void fetchNextPage(); // a page may be short while there is more
  }, [wantsMore, fetchNextPage]);

  const nameOf = (userId: string): string => {
    for (const page of pages) if (page.profiles[userId]) return page.profiles[userId].display_name;
    return userId;
  };
  const titles = (id: string): string => {
    const mine = seat.list.conversations.find((one) => one.id === id);
    if (mine) return titleOf(mine, seat.profiles);
    for (const page of pages) {
      const called = page.conversations[id];
      if (called) return called.title || called.name || id;
    }
    return id;
  };

  const walk = (event: KeyboardEvent<HTMLElement>) => {
    const step = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    if (!step) return;
    const links = [...(list.current?.querySelectorAll<HTMLElement>("[data-hit]") ?? [])];
    const at = links.indexOf(document.activeElement as HTMLElement) + step;
    event.preventDefault();
    if (at < 0) box.current?.focus();
    else links[at]?.focus();
  };

  return (
    <main className="grid min-h-0 grid-rows-[auto_1fr]">
      <search className="grid gap-2 border-b border-line px-3 py-2">
        <input
          ref={box}
          type="search"
          value={typed}
          onChange={(event) => setTyped(event.target.value)}
          onKeyDown={walk}
          // biome-ignore lint/a11y/noAutofocus: whoever comes to this place comes to type
          autoFocus
          aria-label="Search messages"
          placeholder='Words in any order, "a phrase", begin*, -without'
          className={`${field} text-base`}
        />
        <div className="grid grid-cols-2 items-end gap-2 md:grid-cols-[minmax(0,1fr)_minmax(0,1fr)_auto_auto]">
          <div className="grid text-xs text-faint">
            <label htmlFor="search-place">In</label>
            <select
              id="search-place"
              value={place}
              onChange={(event) => setPlace(event.target.value)}
              className={`${field} text-sm text-ink`}
            >
              <option value="">all of my conversations</option>
              {seat.list.conversations.map((one) => (
                <option key={one.id} value={one.id}>
                  {titleOf(one, seat.profiles)}
                </option>
              ))}
            </select>
          </div>
          <div className="grid text-xs text-faint">
            <label htmlFor="search-author">By</label>
            <div className="text-sm text-ink">
              <PersonField id="search-author" label="By" chosen={author} onChange={setAuthor} most={1} />
            </div>
          </div>
          <Day label="From" value={from} onChange={setFrom} />
          <Day label="To" value={to} onChange={setTo} />
        </div>
        <p role="status" className="sounding min-h-4 text-faint">
          {found.error && asked !== "" ? "" : said(asked, hits.length, isFetching, hasNextPage)}
        </p>
        {found.error && asked !== "" && (
          <p role="alert" className="text-buoy">
            {found.error.message}
          </p>
        )}
      </search>
      <section aria-label="Hits" className="min-h-0 overflow-y-auto">
        <ol ref={list}>
          {hits.map((hit) => (
            <HitRow
              key={`${hit.message.conversation_id} ${hit.message.seq}`}
              hit={hit}
              title={titles(hit.message.conversation_id)}
              nameOf={nameOf}
              onKeyDown={walk}
            />
          ))}
        </ol>
        {hasNextPage && hits.length > 0 && asked !== "" && (
          <div className="p-3">
            <Button onClick={() => void fetchNextPage()} disabled={isFetching}>
              Older hits
            </Button>
          </div>
        )}
      </section>
    </main>
  );
}

function said(asked: string, hits: number, busy: boolean, more: boolean): string {
  if (asked === "") return "";
  if (busy && hits === 0) return "looking";
  if (hits === 0) return more ? "looking" : "nothing found";
  return more ? `the newest ${counted(hits, "hit")}` : counted(hits, "hit");
}

function Day(props: { label: string; value: string; onChange: (value: string) => void }) {
  return (
    <label className="grid text-xs text-faint">
      {props.label}
      <input
        type="date"
        value={props.value}
        onChange={(event) => props.onChange(event.target.value)}
        className={`${field} text-sm text-ink`}
      />
    </label>
  );
}
