import type { HTMLAttributes, Key } from 'react';
import type { Schemas } from '../api/client';

/** What is said of a database where one is chosen. */
export type FoundDatabase = Pick<Schemas['FleetRow'], 'id' | 'name' | 'service' | 'host'>;

/** Most databases offered at once; who wants another types more. */
export const mostFound = 12;

/** A database among those to choose from: its name, and by what else one may have found it. */
export function databaseOption({ key, ...props }: HTMLAttributes<HTMLLIElement> & { key: Key }, r: FoundDatabase) {
  return (
    <li key={key} {...props}>
      <span>
        {r.name}{' '}
        <span style={{ opacity: 0.7 }}>
          · {r.service} · {r.host}
        </span>
      </span>
    </li>
  );
}
