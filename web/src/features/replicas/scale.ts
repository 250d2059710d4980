/** Seconds behind on a square-root axis, so that one second and three hours can both be read: 0 at now, 1 at the far end. */
export const behind = (seconds: number, most: number) => Math.min(1, Math.sqrt(Math.max(0, seconds) / most));

const ends = [60, 600, 3600, 3 * 3600, 86_400, 7 * 86_400, 90 * 86_400];

/** The end of the axis: the first round span that holds nine of ten of what is shown; the rest leaves at the far end. */
export function farEnd(seconds: number[]): number {
  const sorted = [...seconds].sort((a, b) => a - b);
  const most = sorted[Math.max(0, Math.ceil(sorted.length * 0.9) - 1)] ?? 0;
  return ends.find((e) => e >= most) ?? ends.at(-1)!;
}

const marks: [number, string][] = [
  [1, '1 s'],
  [10, '10 s'],
  [60, '1 min'],
  [600, '10 min'],
  [3600, '1 h'],
  [3 * 3600, '3 h'],
  [86_400, '1 d'],
  [7 * 86_400, '7 d'],
  [30 * 86_400, '30 d'],
];

/** The marks of an axis that do not stand in each other's way, from the far end to now. */
export function axisMarks(most: number): [number, string][] {
  const shown: [number, string][] = [];
  for (const mark of marks.filter((m) => m[0] <= most).reverse()) {
    const last = shown.at(-1);
    const own = behind(mark[0], most);
    // Nor in the way of "now", at 0.
    if (own > 0.12 && (!last || behind(last[0], most) - own > 0.2)) shown.push(mark);
  }
  return shown;
}
