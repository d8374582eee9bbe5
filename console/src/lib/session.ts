/** Who is signed in, and what they may do: asked once, the same for every page. */
import { createQuery } from '@tanstack/svelte-query';
import { ask, queries } from './api/queries';

export function useMe() {
  return createQuery(
    () => ask('/api/v2/me'),
    () => queries
  );
}

/** What this person may do. What they may not is not offered; the service refuses it in any case. */
export function useMay() {
  const me = useMe();
  return {
    /** The work on machines: surveys, cleanings, rounds, rules of clients and machines. */
    get work(): boolean {
      return me.data !== undefined && me.data.role !== 'desk';
    },
    /** What is the owner's: the shop's rules, people, mail. */
    get own(): boolean {
      return me.data?.role === 'owner';
    }
  };
}
