import { Fragment } from 'react';
import { localTime, utc } from './format';

/** An instant within what the server says: "2026-11-24T09:57:00Z" or "2026-11-24 09:57:00Z". */
const instant = /\b\d{4}-\d\d-\d\d[T ]\d\d:\d\d(?::\d\d(?:\.\d+)?)?Z/g;

const parse = (text: string) => Date.parse(text.replace(' ', 'T'));

/** What the server says, with the instants in it in a site's local time. */
export const saidIn = (text: string, zone: string) => text.replace(instant, (at) => localTime(parse(at), zone));

/** The same for a page: UTC on hover. */
export function Said({ text, zone }: { text: string; zone: string }) {
  const found = text.match(instant) ?? [];
  return text.split(instant).map((between, i) => (
    <Fragment key={i}>
      {between}
      {i < found.length && <time title={utc(parse(found[i]!))}>{localTime(parse(found[i]!), zone)}</time>}
    </Fragment>
  ));
}
