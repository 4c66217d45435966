import { useQuery } from "@tanstack/react-query";
import { Bar, BarChart, CartesianGrid, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";
import { answered, type Conversation } from "../api/client";
import { useSeat } from "../app/seatContext";
import { bytesText, clockTime, count, counted, dayMonth, exactTime } from "../lib/format";
import { barsOf, type Preview } from "./rule";

/** What a rule would take away: how much, a bar for each day, and the first and the last message. */
export function PreviewPane(props: {
  conversation: Conversation;
  preview: Preview | null | undefined;
  problem: string | undefined;
}) {
  const { conversation, preview, problem } = props;
  if (problem)
    return (
      <p role="alert" className="p-4 text-buoy">
        {problem}
      </p>
    );
  if (!preview)
    return (
      <p className="p-4 text-faint">{preview === null ? "Without limits everything is kept." : "reading"}</p>
    );
  return (
    <section aria-label="Preview" className="min-w-0 p-4">
      <p role="status">
        {preview.expires === 0 ? (
          "This rule takes nothing away now."
        ) : (
          <>
            <strong className="text-buoy">{counted(preview.expires, "message")}</strong> would go:{" "}
            <span className="sounding">
              {count(preview.first_seq ?? 0)}–{count(preview.last_seq ?? 0)}
            </span>
            , {bytesText(preview.bytes)}
            {preview.first_at && preview.last_at && (
              <span className="text-faint">
                , written from {dayMonth(preview.first_at)} {clockTime(preview.first_at)} to{" "}
                {dayMonth(preview.last_at)} {clockTime(preview.last_at)}
              </span>
            )}
          </>
        )}
      </p>
      {preview.expires > 0 && (
        <>
          <Chart preview={preview} />
          <Ends conversation={conversation} preview={preview} />
        </>
      )}
    </section>
  );
}

function Chart({ preview }: { preview: Preview }) {
  const bars = barsOf(preview.by_day);
  return (
    <figure className="mt-3">
      <div className="h-44" aria-hidden>
        <ResponsiveContainer width="100%" height="100%">
          <BarChart data={bars} margin={{ top: 4, right: 8, bottom: 0, left: 0 }} accessibilityLayer={false}>
            <CartesianGrid stroke="var(--line)" vertical={false} />
            <XAxis
              dataKey="label"
              stroke="var(--faint)"
              tick={{ fill: "var(--faint)", fontSize: 11 }}
              tickLine={false}
              minTickGap={28}
            />
            <YAxis
              allowDecimals={false}
              width={44}
              stroke="var(--faint)"
              tick={{ fill: "var(--faint)", fontSize: 11 }}
              tickLine={false}
            />
            <Tooltip
              cursor={{ fill: "var(--depth)" }}
              contentStyle={{ background: "var(--paper)", border: "1px solid var(--line)", borderRadius: 0 }}
              labelStyle={{ color: "var(--ink)" }}
              itemStyle={{ color: "var(--buoy)" }}
            />
            <Bar dataKey="messages" fill="var(--buoy)" isAnimationActive={false} maxBarSize={28} />
          </BarChart>
        </ResponsiveContainer>
      </div>
      <figcaption className="text-xs text-faint">
        Messages that would go, by the day on which they were written (UTC).
        <table className="sr-only">
          <caption>Messages that would go</caption>
          <thead>
            <tr>
              <th scope="col">from</th>
              <th scope="col">messages</th>
            </tr>
          </thead>
          <tbody>
            {bars.map((bar) => (
              <tr key={bar.label}>
                <td>{bar.label}</td>
                <td>{bar.messages}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </figcaption>
    </figure>
  );
}

/** The first and the last message that would go. */
function Ends({ conversation, preview }: { conversation: Conversation; preview: Preview }) {
  const ends = [...new Set([preview.first_seq, preview.last_seq])].filter((seq) => seq != null);
  return (
    <ol className="mt-3 border-t border-line">
      {ends.map((seq, n) => (
        <li key={seq} className="border-b border-line py-1">
          <End conversation={conversation} seq={seq} name={n === 0 ? "first" : "last"} />
        </li>
      ))}
    </ol>
  );
}

function End({ conversation, seq, name }: { conversation: Conversation; seq: number; name: string }) {
  const { seat } = useSeat();
  const message = useQuery({
    queryKey: ["message", conversation.id, seq],
    queryFn: () =>
      answered(
        seat.api.GET("/v1/conversations/{conversation_id}/messages/{seq}", {
          params: { path: { conversation_id: conversation.id, seq } },
        }),
      ),
  });
  const one = message.data;
  return (
    <span className="grid grid-cols-[3rem_4.5rem_minmax(0,1fr)] gap-x-2">
      <span className="text-xs text-faint">{name}</span>
      <span className="sounding text-right text-faint">{count(seq)}</span>
      {one ? (
        <span className="truncate" title={exactTime(one.created_at)}>
          <b className="font-semibold">{seat.profiles.get(one.author_id)?.display_name ?? one.author_id}</b>{" "}
          {one.body}
        </span>
      ) : (
        <span className="text-faint">{message.error ? message.error.message : "reading"}</span>
      )}
    </span>
  );
}
