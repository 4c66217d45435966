import type { components } from "../api/schema";

export type Usage = components["schemas"]["Usage"];

/** What is counted, in the order in which it is shown. */
export const COUNTS = [
  "posts",
  "edits",
  "removals",
  "reactions",
  "receipts",
  "deliveries",
  "connections_peak",
  "people",
] as const;

const FIELDS = ["at", "id", ...COUNTS, "stored_bytes"] as const;

/** The beginning of so many days ago, RFC 3339. */
export const daysBack = (days: number, now: Date = new Date()): string =>
  new Date(now.getTime() - days * 86_400_000).toISOString();

/** The hour or the day in UTC, as the service counts them. */
export const labelOf = (at: string, by: "hour" | "day"): string =>
  by === "day" ? at.slice(5, 10) : `${at.slice(5, 10)} ${at.slice(11, 13)}h`;

/** A table as CSV (RFC 4180); what a spreadsheet would take for a formula has an apostrophe in front. */
export function csvOf(items: Usage[]): string {
  const cell = (value: unknown): string => {
    let text = value === null || value === undefined ? "" : String(value);
    if (/^[=+\-@\t\r]/.test(text)) text = `'${text}`;
    return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
  };
  const lines = [FIELDS.join(","), ...items.map((one) => FIELDS.map((name) => cell(one[name])).join(","))];
  return `${lines.join("\r\n")}\r\n`;
}
