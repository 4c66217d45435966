import { Bar, BarChart, CartesianGrid, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";

const axis = {
  stroke: "var(--faint)",
  tick: { fill: "var(--faint)", fontSize: 11 },
  tickLine: false,
} as const;

/** One count over time. The table below it says the same to who does not see it. */
export function Chart(props: {
  title: string;
  bars: { label: string; value: number }[];
  text: (value: number) => string;
}) {
  const { title, bars, text } = props;
  return (
    <figure className="border border-line p-2">
      <figcaption className="flex justify-between text-xs">
        <span>{title}</span>
        <span className="sounding text-faint">{text(bars.at(-1)?.value ?? 0)} last</span>
      </figcaption>
      <div className="h-32" aria-hidden>
        <ResponsiveContainer width="100%" height="100%">
          <BarChart data={bars} margin={{ top: 6, right: 4, bottom: 0, left: 0 }} accessibilityLayer={false}>
            <CartesianGrid stroke="var(--line)" vertical={false} />
            <XAxis dataKey="label" minTickGap={28} {...axis} />
            <YAxis width={56} allowDecimals={false} tickFormatter={text} {...axis} />
            <Tooltip
              cursor={{ fill: "var(--depth)" }}
              formatter={(value) => [text(Number(value)), title]}
              contentStyle={{ background: "var(--paper)", border: "1px solid var(--line)", borderRadius: 0 }}
              labelStyle={{ color: "var(--ink)" }}
              itemStyle={{ color: "var(--chart)" }}
            />
            <Bar dataKey="value" fill="var(--chart)" isAnimationActive={false} maxBarSize={24} />
          </BarChart>
        </ResponsiveContainer>
      </div>
    </figure>
  );
}
