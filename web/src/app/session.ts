import { createContext, useContext } from 'react';
import type { Schemas } from '../api/client';

export const SessionContext = createContext<Schemas['Me'] | null>(null);

/** Who is signed in. */
export function useMe(): Schemas['Me'] {
  const me = useContext(SessionContext);
  if (!me) throw new Error('nobody is signed in here');
  return me;
}

/** Whether the person may do what a role may do; who administers may do everything. */
export function useMay(role: 'operate' | 'plan' | 'approve' | 'administer'): boolean {
  const { roles } = useMe();
  return roles.includes(role) || roles.includes('administer');
}
