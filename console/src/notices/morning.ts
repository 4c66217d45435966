/** When tomorrow morning is, in this browser's time: at seven. Before four at night it is this day's. */
export function tomorrowMorning(now: Date): Date {
  const morning = new Date(now);
  if (now.getHours() >= 4) morning.setDate(morning.getDate() + 1);
  morning.setHours(7, 0, 0, 0);
  return morning;
}

/** Whether nothing is told yet. */
export function isQuiet(after: string | null | undefined, now: number): boolean {
  return after != null && Date.parse(after) > now;
}
