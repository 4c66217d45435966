/** A run of a body, and whether it was looked for. */
export type Run = { at: number; text: string; marked: boolean };

/** A body in runs; `marks` are half-open ranges of code points, in order. */
export function runsOf(body: string, marks: [number, number][]): Run[] {
  const points = [...body];
  const runs: Run[] = [];
  let at = 0;
  const add = (end: number, marked: boolean) => {
    if (end > at) runs.push({ at, text: points.slice(at, end).join(""), marked });
    at = Math.max(at, end);
  };
  for (const [start, end] of marks) {
    add(start, false);
    add(end, true);
  }
  add(points.length, false);
  return runs;
}
