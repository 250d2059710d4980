import { useQuery } from '@tanstack/react-query';
import { api, got } from '../api/client';

/** Sites, arrays, hosts and stores by name, and the time zone that clocks are shown in. */
export function usePlaces() {
  return useQuery({ queryKey: ['places'], staleTime: 60_000, queryFn: () => got(api.GET('/api/places')) });
}

/** The time zone of the fleet's first site: what local times are shown in where no database says otherwise. */
export function useZone(): string {
  return usePlaces().data?.timeZones[0] ?? 'UTC';
}
