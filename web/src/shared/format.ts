/** Seconds in plain words, at most two units: "4 min 10 s". The same words as the server's. */
export function duration(seconds: number | null | undefined): string {
  if (seconds === null || seconds === undefined) return 'not known';
  const s = Math.round(Math.max(0, seconds));
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

/** How many milliseconds a zone is ahead of UTC at an instant. */
export function zoneOffset(ms: number, zone: string): number {
  const p = parts(ms, zone);
  const months = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Sept', 'Oct', 'Nov', 'Dec'];
  const index = months.indexOf(p.month!) - (months.indexOf(p.month!) > 8 ? 1 : 0);
  const asUtc = Date.UTC(Number(p.year), index, Number(p.day), Number(p.hour), Number(p.minute), Number(p.second));
  return asUtc - Math.floor(ms / 1000) * 1000;
}

/** Reads "2026-11-23 07:40", "2026-11-23 07:40:12" (local time of a zone) or an instant in UTC; null when it is neither. */
export function readLocal(text: string, zone: string): number | null {
  const trimmed = text.trim();
  if (/Z$/i.test(trimmed)) {
    const ms = Date.parse(trimmed);
    return Number.isNaN(ms) ? null : ms;
  }
  const m = /^(\d{4})-(\d\d)-(\d\d)[ T](\d\d):(\d\d)(?::(\d\d)(\.\d{1,3})?)?$/.exec(trimmed);
  if (!m) return null;
  const guess = Date.UTC(+m[1]!, +m[2]! - 1, +m[3]!, +m[4]!, +m[5]!, +(m[6] ?? 0), Math.round(+(m[7] ?? 0) * 1000));
  if (new Date(guess).getUTCDate() !== +m[3]!) return null;
  const first = guess - zoneOffset(guess, zone);
  return guess - zoneOffset(first, zone);
}

/** An instant as {@link readLocal} reads it back. */
export function writeLocal(ms: number, zone: string): string {
  const shifted = new Date(ms + zoneOffset(ms, zone)).toISOString();
  const text = shifted.slice(0, 10) + ' ' + shifted.slice(11, 23);
  return text.endsWith('.000') ? text.slice(0, -4) : text;
}
