import { DateTime } from 'luxon';

const minute = 60_000;
const hour = 60 * minute;
const day = 24 * hour;
const steps = [minute, 5 * minute, 15 * minute, hour, 3 * hour, 6 * hour, 12 * hour, day, 2 * day, 7 * day];

/** Ticks at round local times, at most about one every 90 pixels. */
export function localTicks(from: number, to: number, width: number, zone: string): { at: number; day: boolean }[] {
  const step = steps.find((s) => (to - from) / s <= width / 90) ?? 30 * day;
  const ticks: { at: number; day: boolean }[] = [];
  for (let date = DateTime.fromMillis(from, { zone }).startOf('day'); ; date = date.plus({ days: 1 }).startOf('day')) {
    if (date.toMillis() > to) return ticks;
    if (step >= day) {
      const number = Math.round(Date.UTC(date.year, date.month - 1, date.day) / day);
      if (number % (step / day) === 0) put(date.toMillis(), true);
      continue;
    }
    for (let local = 0; local < day; local += step) {
      const at = date.set({ hour: Math.floor(local / hour), minute: (local % hour) / minute }).toMillis();
      if (at > to) break;
      put(at, local === 0);
    }
  }

  function put(at: number, isDay: boolean) {
    // A time the clock leaves out is the one after it, which is there already.
    if (at >= from && at > (ticks.at(-1)?.at ?? -Infinity)) ticks.push({ at, day: isDay });
  }
}
