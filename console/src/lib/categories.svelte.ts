/** Categories by what people call them: the catalogue is asked for once. */
import { createQuery } from '@tanstack/svelte-query';
import { ask } from './api/queries';

/** Gives the name of a category's key; the key itself until the catalogue is there. */
export function useCategoryNames(): (key: string) => string {
  const asked = createQuery(() => ask('/api/v2/catalogue'));
  const names = $derived(
    new Map((asked.data ?? []).map((category) => [category.key, category.name]))
  );
  return (key) => names.get(key) ?? key;
}
