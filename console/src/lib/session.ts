/** Who is signed in, and what they may do: asked once, the same for every page. */
import { createQuery } from '@tanstack/svelte-query';
import { ask, queries } from './api/queries';

export function useMe() {
  return createQuery(
    () => ask('/api/v1/me'),
    () => queries
  );
}
