// biome-ignore-all lint/suspicious/noThenProperty: it is the name of the contract's field
import type { components } from "../api/schema";
import { count } from "../lib/format";

export type Rule = components["schemas"]["RetentionRule"];
export type RuleBody = components["schemas"]["PutRetention"];
export type Preview = components["schemas"]["RetentionPreview"];

/** The fields of a rule as they are typed. */
export interface Draft {
  keepLast: string;
  keepFor: string;
  keepBytes: string;
  fate: "archive" | "discard";
  hold: boolean;
}

export function draftOf(rule: Rule): Draft {
  return {
    keepLast: rule.keep_last?.toString() ?? "",
    keepFor: rule.keep_for ?? "",
    keepBytes: rule.keep_bytes?.toString() ?? "",
    fate: rule.then ?? "archive",
    hold: rule.hold,
  };
}

type Fault = { field: "keepLast" | "keepFor" | "keepBytes"; detail: string };

const DURATION = /^P(?=\d|T\d)(\d+Y)?(\d+M)?(\d+W)?(\d+D)?(T(?=\d)(\d+H)?(\d+M)?(\d+([.,]\d+)?S)?)?$/;

/** What is sent for a draft; null where it is no rule, which clears the one there is; or what is wrong with it. */
export function bodyOf(draft: Draft): { body: RuleBody | null } | Fault {
  const body: RuleBody = { hold: draft.hold, confirm: false };
  const numbers = [
    ["keepLast", "keep_last"],
    ["keepBytes", "keep_bytes"],
  ] as const;
  for (const [field, name] of numbers) {
    const text = draft[field].replace(/[\s,.’']/g, "");
    if (text === "") continue;
    if (!/^[1-9]\d{0,14}$/.test(text)) return { field, detail: "a whole number, 1 or more" };
    body[name] = Number(text);
  }
  const keepFor = draft.keepFor.trim().toUpperCase();
  if (keepFor !== "") {
    if (!DURATION.test(keepFor) || !/[1-9]/.test(keepFor))
      return { field: "keepFor", detail: "a duration such as P30D, P1Y or PT12H" };
    body.keep_for = keepFor;
  }
  const limited = body.keep_last != null || body.keep_bytes != null || body.keep_for != null;
  if (limited) body.then = draft.fate;
  return { body: limited || draft.hold ? body : null };
}

/** A rule in a sentence. */
export function wordsOf(rule: Rule): string {
  const parts: string[] = [];
  if (rule.keep_last != null) parts.push(`the newest ${count(rule.keep_last)} messages`);
  if (rule.keep_for != null) parts.push(`what is younger than ${rule.keep_for}`);
  if (rule.keep_bytes != null) parts.push(`${count(rule.keep_bytes)} bytes`);
  if (parts.length === 0) return rule.hold ? "Keeps everything, and is on hold." : "Keeps everything.";
  const rest = rule.then === "discard" ? "discards the rest" : "archives the rest";
  return `Keeps ${parts.join(" and ")}, and ${rest}${rule.hold ? "; on hold, nothing goes" : ""}.`;
}

/** Days as bars; where they are too many for a chart, the weeks or months that they are in. */
export function barsOf(days: Preview["by_day"], most = 45): { label: string; messages: number }[] {
  const first = days[0];
  const last = days[days.length - 1];
  if (!first || !last) return [];
  const span = (Date.parse(last.day) - Date.parse(first.day)) / 86_400_000 + 1;
  const label = (day: string) => {
    if (span <= most) return day;
    if (span > most * 7) return day.slice(0, 7);
    const date = new Date(`${day}T00:00:00Z`);
    date.setUTCDate(date.getUTCDate() - ((date.getUTCDay() + 6) % 7));
    return date.toISOString().slice(0, 10);
  };
  const bars = new Map<string, number>();
  for (const one of days) bars.set(label(one.day), (bars.get(label(one.day)) ?? 0) + one.messages);
  return [...bars].map(([name, messages]) => ({ label: name, messages }));
}
