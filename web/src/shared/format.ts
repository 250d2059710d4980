import { DateTime } from 'luxon';

/** Seconds in plain words, at most two units: "4 min 10 s". The same words as the server's. */
export function duration(seconds: number | null | undefined): string {
  if (seconds === null || seconds === undefined) return 'not known';
  const s = Math.round(Math.max(0, seconds));
  if (seconds > 0 && seconds < 0.05) return 'under 0.1 s';
  if (seconds > 0 && seconds < 0.95) return `${seconds.toFixed(1)} s`;
  const two = (big: number, bigUnit: string, small: number, smallUnit: string) =>
    small === 0 ? `${big} ${bigUnit}` : `${big} ${bigUnit} ${small} ${smallUnit}`;
  if (s < 60) return `${s} s`;
  if (s < 3600) return two(Math.floor(s / 60), 'min', s % 60, 's');
  if (s < 86400) return two(Math.floor(s / 3600), 'h', Math.floor((s % 3600) / 60), 'min');
  return two(Math.floor(s / 86400), 'd', Math.floor((s % 86400) / 3600), 'h');
}

/** Bytes with the unit that keeps the number short. */
export function bytes(n: number): string {
  const units = ['B', 'kB', 'MB', 'GB', 'TB', 'PB'];
  let i = 0;
  let v = n;
  while (v >= 1000 && i < units.length - 1) {
    v /= 1000;
    i++;
  }
  return `${v < 10 && i > 0 ? v.toFixed(1) : Math.round(v)} ${units[i]}`;
}

const formats = new Map<string, Intl.DateTimeFormat>();

function parts(ms: number, zone: string): Record<string, string> {
  let f = formats.get(zone);
  if (!f) {
    f = new Intl.DateTimeFormat('en-GB', {
      timeZone: zone,
      weekday: 'short',
      year: 'numeric',
      month: 'short',
      day: 'numeric',
      hour: '2-digit',
      minute: '2-digit',
      second: '2-digit',
      hourCycle: 'h23',
    });
    formats.set(zone, f);
  }
  return Object.fromEntries(f.formatToParts(ms).map((p) => [p.type, p.value]));
}

/** An instant in a site's local time: "Mon 23 Nov 07:40:12". */
export function localTime(at: string | number, zone: string, withSeconds = true): string {
  const p = parts(typeof at === 'number' ? at : Date.parse(at), zone);
  return `${p.weekday} ${p.day} ${p.month} ${p.hour}:${p.minute}${withSeconds ? `:${p.second}` : ''}`;
}

/** Only the time of day. */
export function localClock(at: string | number, zone: string): string {
  const p = parts(typeof at === 'number' ? at : Date.parse(at), zone);
  return `${p.hour}:${p.minute}`;
}

/** Only the day. */
export function localDay(at: string | number, zone: string): string {
  const p = parts(typeof at === 'number' ? at : Date.parse(at), zone);
  return `${p.weekday} ${p.day} ${p.month}`;
}

/** An instant in UTC, to the second or the millisecond, as the open files write it. */
export function utc(at: string | number): string {
  const iso = new Date(at).toISOString();
  return iso.endsWith('.000Z') ? iso.replace('.000Z', 'Z') : iso;
}

/** Reads "2026-11-23 07:40", "2026-11-23 07:40:12" (local time of a zone) or an instant in UTC; null when it is neither. */
export function readLocal(text: string, zone: string): number | null {
  const trimmed = text.trim();
  const read = /Z$/i.test(trimmed)
    ? DateTime.fromISO(trimmed.toUpperCase())
    : /^\d{4}-\d\d-\d\d[ T]\d\d:\d\d/.test(trimmed)
      ? DateTime.fromISO(trimmed.replace(' ', 'T'), { zone })
      : null;
  return read?.isValid ? read.toMillis() : null;
}

/** An instant as {@link readLocal} reads it back. */
export function writeLocal(ms: number, zone: string): string {
  const local = DateTime.fromMillis(ms, { zone });
  return local.toFormat(local.millisecond === 0 ? 'yyyy-MM-dd HH:mm:ss' : 'yyyy-MM-dd HH:mm:ss.SSS');
}

/** The beginning of a day of a zone, so many days after the one an instant lies in: also where the clock is changed at midnight. */
export function startOfDay(ms: number, zone: string, daysLater = 0): number {
  return DateTime.fromMillis(ms, { zone }).startOf('day').plus({ days: daysLater }).startOf('day').toMillis();
}

/** The same time of day so many days later. */
export function daysLater(ms: number, zone: string, days: number): number {
  return DateTime.fromMillis(ms, { zone }).plus({ days }).toMillis();
}

const numbers = new Intl.NumberFormat('en-GB');

/** A number of things, with its thousands apart. */
export const count = (n: number): string => numbers.format(n);

/** Orders names as people do: Database 300 before Database 1200. */
export const byName = new Intl.Collator('en', { numeric: true, sensitivity: 'base' }).compare;
