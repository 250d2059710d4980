import { zoneOffset } from './format';

const minute = 60_000;
const hour = 60 * minute;
const day = 24 * hour;
const steps = [minute, 5 * minute, 15 * minute, hour, 3 * hour, 6 * hour, 12 * hour, day, 2 * day, 7 * day];

/** Ticks at round local times, at most about one every 90 pixels. */
export function localTicks(from: number, to: number, width: number, zone: string): { at: number; day: boolean }[] {
  const step = steps.find((s) => (to - from) / s <= width / 90) ?? 30 * day;
  const ticks: { at: number; day: boolean }[] = [];
  const first = Math.ceil((from + zoneOffset(from, zone)) / step) * step;
  for (let local = first; ; local += step) {
    // The offset of the tick itself: a week may hold a clock change.
    const at = local - zoneOffset(local - zoneOffset(from, zone), zone);
    if (at > to) return ticks;
    ticks.push({ at, day: local % day === 0 });
  }
}
