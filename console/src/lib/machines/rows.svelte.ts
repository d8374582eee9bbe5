/** The rows of a long listing of machines: their numbers in order, and those that are seen. */
import { createQuery, keepPreviousData } from '@tanstack/svelte-query';
import type { Machine } from '$lib/api/client';
import { ask } from '$lib/api/queries';
import { SeenRows } from '$lib/api/seen.svelte';
import { Still } from '$lib/still.svelte';
import type { Order } from './columns';

export interface Choice {
  words?: string;
  client_id?: number;
  system?: ('windows' | 'macos' | 'linux')[];
  nearly_full?: boolean;
  without_round?: boolean;
  not_enrolled?: boolean;
  retired?: boolean;
}

/** What is not chosen by is left out of the question. */
export function questionOf(choice: Choice, order: Order) {
  const said = Object.entries(choice).filter(
    ([, value]) => value && !(Array.isArray(value) && !value.length)
  );
  return { ...(Object.fromEntries(said) as Choice), ...order };
}

/** Some rows by their numbers; as JSON, though the address also answers with CSV. */
function rowsOf(ids: number[]) {
  const asked = ask('/api/v2/machines', { params: { query: { machine_id: ids } } });
  return {
    queryKey: asked.queryKey,
    queryFn: async (context: { signal: AbortSignal }) => (await asked.queryFn(context)) as Machine[]
  };
}

export class MachineRows {
  #numbersAsked;
  readonly rows: SeenRows<Machine>;
  /** Which machines in which order; what is said of each shows at once. */
  readonly order: Still<number[] | null>;

  constructor(choice: () => Choice, order: () => Order) {
    this.#numbersAsked = createQuery(() => ({
      ...ask('/api/v2/machines/numbers', { params: { query: questionOf(choice(), order()) } }),
      placeholderData: keepPreviousData
    }));
    this.order = new Still(
      () => this.#numbersAsked.data ?? null,
      () => {
        // rows of the question before hold nothing
        const isNew = this.#numbersAsked.isPlaceholderData;
        return JSON.stringify([questionOf(choice(), order()), isNew]);
      }
    );
    this.rows = new SeenRows(
      () => this.numbers ?? [],
      rowsOf,
      (machine) => machine.id
    );
  }

  get query() {
    return this.#numbersAsked;
  }

  /** The numbers of all machines chosen, in order; null before they are known. */
  get numbers(): number[] | null {
    return this.order.shown;
  }
}
