import { ArrowDownLeft, ArrowUpRight } from "lucide-react";
import { useDeferredValue, useState } from "react";
import { Button, field } from "../app/ui";
import { useObservable } from "../app/useObservable";
import { bytesText, count, counted } from "../lib/format";
import { type Passed, wireLog } from "../sync/wireLog";
import { Decoded } from "./Decoded";

/** Every frame and request of this page, both ways: newest at the top. */
export function WirePage() {
  useObservable(wireLog);
  const [held, setHeld] = useState<Passed[] | null>(null);
  const [sought, setSought] = useState("");
  const [chosen, setChosen] = useState<number | null>(null);
  const needle = useDeferredValue(sought).trim().toLowerCase();
  const all = held ?? wireLog.passed;
  const shown = all.filter((one) => matches(one, needle)).reverse();
  const open = all.find((one) => one.n === chosen);

  return (
    <main className="grid min-h-0 grid-cols-[minmax(0,1fr)] grid-rows-[auto_1fr]">
      <div className="flex flex-wrap items-center gap-3 border-b border-line px-3 py-2">
        <h2 className="font-semibold">Wire</h2>
        <input
          type="search"
          value={sought}
          onChange={(event) => setSought(event.target.value)}
          placeholder="Filter by kind, member, way or text"
          aria-label="Filter"
          className={`${field} max-w-80`}
        />
        <Button onClick={() => setHeld(held ? null : wireLog.passed)} aria-pressed={held !== null}>
          {held ? "Go on" : "Pause"}
        </Button>
        <Button
          onClick={() => {
            wireLog.clear();
            setHeld(null);
            setChosen(null);
          }}
        >
          Clear
        </Button>
        <span className="sounding ml-auto text-faint" role="status" aria-label="passed">
          {count(shown.length)} of {counted(all.length, "entry", "entries")}
          {held && `, ${count(wireLog.passed.filter((one) => one.n > (held.at(-1)?.n ?? 0)).length)} since`}
        </span>
      </div>
      <div
        className={`grid min-h-0 ${open ? "grid-rows-[1fr_1fr] lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)] lg:grid-rows-1" : ""}`}
      >
        {/* biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard */}
        <section aria-label="Frames and requests" tabIndex={0} className="min-h-0 overflow-auto">
          <table className="w-full text-left text-xs">
            <thead className="sticky top-0 bg-shoal">
              <tr>
                {["time", "seat", "way", "what", "bytes", "ms"].map((name) => (
                  <th
                    key={name}
                    scope="col"
                    className="border-b border-line px-3 py-1 font-medium text-faint"
                  >
                    {name}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {shown.map((one) => (
                <Line key={one.n} one={one} chosen={one.n === chosen} onChoose={() => setChosen(one.n)} />
              ))}
            </tbody>
          </table>
          {shown.length === 0 && <p className="p-4 text-faint">Nothing has passed that is like this.</p>}
        </section>
        {open && <Decoded key={open.n} one={open} onClose={() => setChosen(null)} />}
      </div>
    </main>
  );
}

function matches(one: Passed, needle: string): boolean {
  if (needle === "") return true;
  const text = `${one.what} ${one.member} ${one.way} ${one.door} ${JSON.stringify(one.content)}`;
  return text.toLowerCase().includes(needle);
}

const clock = (at: Date): string =>
  `${at.toLocaleTimeString(undefined, { hourCycle: "h23" })}.${String(at.getMilliseconds()).padStart(3, "0")}`;

function Line({ one, chosen, onChoose }: { one: Passed; chosen: boolean; onChoose: () => void }) {
  const Arrow = one.way === "in" ? ArrowDownLeft : ArrowUpRight;
  return (
    <tr className={`border-b border-line ${chosen ? "bg-depth" : "hover:bg-shoal"}`} onClick={onChoose}>
      <td className="sounding px-3 py-0.5 whitespace-nowrap text-faint">{clock(one.at)}</td>
      <td className="px-3 py-0.5">{one.member}</td>
      <td className="px-3 py-0.5">
        <span className="flex items-center gap-1">
          <Arrow size={12} aria-hidden className={one.way === "in" ? "text-chart" : "text-buoy"} />
          {one.way}
        </span>
      </td>
      <td className="max-w-72 truncate px-3 py-0.5">
        <button type="button" className="max-w-full truncate text-left font-medium" onClick={onChoose}>
          {one.what}
        </button>
      </td>
      <td className="sounding px-3 py-0.5 text-right whitespace-nowrap">{bytesText(one.bytes)}</td>
      <td className="sounding px-3 py-0.5 text-right text-faint">
        {one.ms === null ? "" : one.ms.toFixed(1)}
      </td>
    </tr>
  );
}
