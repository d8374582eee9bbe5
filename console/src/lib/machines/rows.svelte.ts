/**
 * The rows of a long listing of machines: the service says their numbers in order, and the rows that
 * are seen are asked for, some at a time.
 */
import { createQueries, createQuery, keepPreviousData } from '@tanstack/svelte-query';
import type { Machine } from '$lib/api/client';
import { ask, queries } from '$lib/api/queries';
import type { Order } from './columns';

export interface Choice {
  words?: string;
  client_id?: number;
  system?: ('windows' | 'macos' | 'linux')[];
  nearly_full?: boolean;
  without_round?: boolean;
  not_enrolled?: boolean;
}

/** Rows that are asked for together. */
export const TOGETHER = 50;

/** What is not chosen by is left out of the question. */
export function questionOf(choice: Choice, order: Order) {
  const said = Object.entries(choice).filter(
    ([, value]) => value && !(Array.isArray(value) && !value.length)
  );
  return { ...(Object.fromEntries(said) as Choice), ...order };
}

/** Some rows by their numbers; as JSON, though the address also answers with CSV. */
function rowsOf(ids: number[]) {
  const asked = ask('/api/v1/machines', { params: { query: { machine_id: ids } } });
  return {
    queryKey: asked.queryKey,
    queryFn: async (context: { signal: AbortSignal }) => (await asked.queryFn(context)) as Machine[]
  };
}

export class MachineRows {
  #known = new Map<number, Machine>();
  #numbersAsked;
  #rowsAsked;
  /** Places of the rows that are seen. */
  seen = $state<{ first: number; last: number }>({ first: 0, last: 0 });

  constructor(choice: () => Choice, order: () => Order) {
    this.#numbersAsked = createQuery(() => ({
      ...ask('/api/v1/machines/numbers', { params: { query: questionOf(choice(), order()) } }),
      placeholderData: keepPreviousData
    }));
    this.#rowsAsked = createQueries(() => ({
      queries: this.#parts().map((ids) => rowsOf(ids))
    }));
  }

  /** The numbers to ask for, in parts that stay the same while one scrolls. */
  #parts(): number[][] {
    const numbers = this.numbers ?? [];
    const parts = [];
    const first = Math.floor(this.seen.first / TOGETHER);
    for (let part = first; part * TOGETHER <= this.seen.last; part += 1) {
      const ids = numbers.slice(part * TOGETHER, (part + 1) * TOGETHER);
      if (ids.length) parts.push(ids);
    }
    return parts;
  }

  #version = $derived.by(() => {
    for (const asked of this.#rowsAsked) {
      for (const machine of asked.data ?? []) this.#known.set(machine.id, machine);
    }
    return {};
  });

  get query() {
    return this.#numbersAsked;
  }

  /** The rows that could not be had. */
  get failed() {
    return this.#rowsAsked.find((asked) => asked.error) ?? null;
  }

  /** The numbers of all machines chosen, in order; null before they are known. */
  get numbers(): number[] | null {
    return this.#numbersAsked.data ?? null;
  }

  /** A machine's row, where it is known. */
  row(id: number): Machine | undefined {
    void this.#version;
    return this.#known.get(id);
  }

  /** Ask for all rows, for paper. */
  async all(): Promise<void> {
    const numbers = this.numbers ?? [];
    for (let first = 0; first < numbers.length; first += TOGETHER) {
      const rows = await queries.fetchQuery(rowsOf(numbers.slice(first, first + TOGETHER)));
      for (const machine of rows) this.#known.set(machine.id, machine);
    }
  }
}
