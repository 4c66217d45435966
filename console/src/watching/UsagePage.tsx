import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answered, type Profile } from "../api/client";
import type { components, paths } from "../api/schema";
import { PersonField } from "../app/PersonField";
import { useSeat } from "../app/seatContext";
import { Button } from "../app/ui";
import { bytesText, count } from "../lib/format";
import { Chart } from "./Chart";
import { COUNTS, csvOf, daysBack, labelOf, type Usage } from "./usage";

type Query = NonNullable<paths["/v1/usage"]["get"]["parameters"]["query"]>;
type UsagePageOf = components["schemas"]["UsagePage"];
type Of = "service" | "conversation" | "person";
const SHOWN = [
  ["posts", "Messages"],
  ["deliveries", "Deliveries"],
  ["people", "People"],
  ["connections_peak", "Most connections at one time"],
  ["stored_bytes", "Stored"],
] as const;

/** What was used, as charts and as a table; for a trusted backend. */
export default function UsagePage() {
  const { seat } = useSeat();
  const [by, setBy] = useState<"hour" | "day">("hour");
  const [of, setOf] = useState<Of>("service");
  const [days, setDays] = useState(2);
  const [person, setPerson] = useState<Profile[]>([]);
  const [place, setPlace] = useState("");
  const id = of === "person" ? (person[0]?.user_id ?? "") : of === "conversation" ? place.trim() : "";
  const ready = of === "service" || id !== "";
  const found = useQuery({
    queryKey: ["usage", by, of, id, days, seat.userId],
    enabled: ready,
    refetchInterval: 10_000,
    queryFn: async () => {
      const items: Usage[] = [];
      let cursor: string | null = null;
      do {
        const query: Query = cursor
          ? { cursor, limit: 200 }
          : { by, of, ...(id ? { id } : {}), from: daysBack(days), limit: 200 };
        const page = (await answered(seat.api.GET("/v1/usage", { params: { query } }))) as UsagePageOf;
        items.push(...page.items);
        cursor = page.next;
      } while (cursor !== null && items.length < 2_000);
      return items;
    },
  });
  const save = () => {
    const address = URL.createObjectURL(new Blob([csvOf(found.data ?? [])], { type: "text/csv" }));
    const link = document.createElement("a");
    link.href = address;
    link.download = "usage.csv";
    link.click();
    URL.revokeObjectURL(address);
  };
  return (
    <main className="grid min-h-0 grid-cols-[minmax(0,1fr)] grid-rows-[auto_1fr]">
      <div className="flex flex-wrap items-center gap-3 border-b border-line px-3 py-2">
        <h2 className="font-semibold">Usage</h2>
        <Choice
          label="Of"
          value={of}
          values={["service", "conversation", "person"]}
          onChange={(one) => setOf(one as Of)}
        />
        {of === "conversation" && (
          <input
            value={place}
            onChange={(event) => setPlace(event.target.value)}
            placeholder="id of a conversation"
            aria-label="Which conversation"
            className="w-80 border border-line bg-paper px-2 py-1"
          />
        )}
        {of === "person" && (
          <div className="w-60">
            <PersonField id="usage-person" label="Whose" chosen={person} onChange={setPerson} most={1} />
          </div>
        )}
        <Choice
          label="By"
          value={by}
          values={["hour", "day"]}
          onChange={(one) => setBy(one as "hour" | "day")}
        />
        <Choice
          label="Days"
          value={String(days)}
          values={["1", "2", "7", "30", "90"]}
          onChange={(one) => setDays(Number(one))}
        />
        <Button onClick={save} disabled={!found.data?.length} className="ml-auto">
          Save as CSV
        </Button>
      </div>
      <div className="min-h-0 overflow-y-auto p-3">
        {found.error && (
          <p role="alert" className="text-buoy">
            {found.error.message}
          </p>
        )}
        {!ready && <p className="text-faint">Choose whose.</p>}
        {found.data?.length === 0 && <p className="text-faint">Nothing was used in that time.</p>}
        {found.data && found.data.length > 0 && (
          <>
            <div className="grid gap-3 md:grid-cols-2 xl:grid-cols-3">
              {SHOWN.map(([name, title]) => (
                <Chart
                  key={name}
                  title={title}
                  bars={found.data.map((one) => ({ label: labelOf(one.at, by), value: one[name] }))}
                  text={name === "stored_bytes" ? bytesText : count}
                />
              ))}
            </div>
            <Table items={found.data} by={by} />
          </>
        )}
      </div>
    </main>
  );
}

function Choice(props: { label: string; value: string; values: string[]; onChange: (one: string) => void }) {
  return (
    <label className="flex items-center gap-1 text-xs text-faint">
      {props.label}
      <select
        value={props.value}
        onChange={(event) => props.onChange(event.target.value)}
        className="border border-line bg-paper px-2 py-1 text-sm text-ink"
      >
        {props.values.map((one) => (
          <option key={one}>{one}</option>
        ))}
      </select>
    </label>
  );
}

function Table({ items, by }: { items: Usage[]; by: "hour" | "day" }) {
  return (
    <div className="mt-4 overflow-x-auto">
      <table className="sounding w-full text-right">
        <caption className="sr-only">Usage by {by}</caption>
        <thead>
          <tr className="border-b border-line text-faint">
            <th scope="col" className="text-left font-normal">
              {by} (UTC)
            </th>
            {COUNTS.map((name) => (
              <th key={name} scope="col" className="px-2 font-normal">
                {name === "connections_peak" ? "peak" : name}
              </th>
            ))}
            <th scope="col" className="font-normal">
              stored
            </th>
          </tr>
        </thead>
        <tbody>
          {[...items].reverse().map((one) => (
            <tr key={one.at} className="border-b border-line">
              <th scope="row" className="text-left font-normal">
                {labelOf(one.at, by)}
              </th>
              {COUNTS.map((name) => (
                <td key={name} className="px-2">
                  {count(one[name])}
                </td>
              ))}
              <td>{bytesText(one.stored_bytes)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
