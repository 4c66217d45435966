/** Seconds in which a writer posts once, as they are offered; 0 for as often as they like. */
export const INTERVALS = [0, 10, 30, 60, 300, 900, 3600, 86_400];

export function intervalText(seconds: number): string {
  if (seconds === 0) return "as often as they like";
  for (const [size, word] of [
    [86_400, "day"],
    [3600, "hour"],
    [60, "minute"],
  ] as const)
    if (seconds % size === 0)
      return `once in ${seconds === size ? `a${word === "hour" ? "n" : ""}` : seconds / size} ${word}${seconds > size ? "s" : ""}`;
  return `once in ${seconds} seconds`;
}
