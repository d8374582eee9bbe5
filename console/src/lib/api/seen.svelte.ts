/**
 * The rows of a long listing: the service says their numbers in order, and the rows that are seen are
 * asked for, some at a time.
 */
import { createQueries } from '@tanstack/svelte-query';
import type { QueryKey } from '@tanstack/svelte-query';
import { queries } from './queries';

/** Rows that are asked for together. */
export const TOGETHER = 50;

interface RowsAsked<Row> {
  queryKey: QueryKey;
  queryFn: (context: { signal: AbortSignal }) => Promise<Row[]>;
}

/** What the drawing of long listings knows of its rows; heights and places in pixels. */
interface Drawn {
  getVirtualItems(): { index: number; start: number; end: number }[];
  getTotalSize(): number;
  options: { scrollMargin?: number };
}

/** The space above and below the rows that are drawn, in pixels. */
export function spaceAround(drawn: Drawn): { above: number; below: number } {
  const items = drawn.getVirtualItems();
  const margin = drawn.options.scrollMargin ?? 0;
  const start = (items[0]?.start ?? margin) - margin;
  const end = (items.at(-1)?.end ?? margin) - margin;
  return { above: Math.max(0, start), below: Math.max(0, drawn.getTotalSize() - end) };
}

export class SeenRows<Row extends object> {
  #numbers: () => readonly number[];
  #rowsOf: (numbers: number[]) => RowsAsked<Row>;
  #numberOf: (row: Row) => number;
  #known = new Map<number, Row>();
  #rowsAsked;
  /** Places of the rows that are seen. */
  seen = $state<{ first: number; last: number }>({ first: 0, last: 0 });

  constructor(
    numbers: () => readonly number[],
    rowsOf: (numbers: number[]) => RowsAsked<Row>,
    numberOf: (row: Row) => number
  ) {
    this.#numbers = numbers;
    this.#rowsOf = rowsOf;
    this.#numberOf = numberOf;
    this.#rowsAsked = createQueries(() => ({ queries: this.#parts().map(rowsOf) }));
  }

  /** Rows with these places are seen now. */
  show(first: number, last: number): void {
    if (this.seen.first !== first || this.seen.last !== last) this.seen = { first, last };
  }

  /** The numbers to ask for, in parts that stay the same while one scrolls. */
  #parts(): number[][] {
    const parts = [];
    const first = Math.floor(this.seen.first / TOGETHER);
    for (let part = first; part * TOGETHER <= this.seen.last; part += 1) {
      const numbers = this.#numbers().slice(part * TOGETHER, (part + 1) * TOGETHER);
      if (numbers.length) parts.push(numbers);
    }
    return parts;
  }

  #version = $derived.by(() => {
    for (const asked of this.#rowsAsked) {
      for (const row of asked.data ?? []) this.#known.set(this.#numberOf(row), row);
    }
    return {};
  });

  /** The rows that could not be had. */
  get failed() {
    return this.#rowsAsked.find((asked) => asked.error) ?? null;
  }

  /** A row by its number, where it is known. */
  row(number: number): Row | undefined {
    void this.#version;
    return this.#known.get(number);
  }

  /** Ask for all rows, for paper. */
  async all(): Promise<void> {
    const numbers = this.#numbers();
    for (let first = 0; first < numbers.length; first += TOGETHER) {
      const rows = await queries.fetchQuery(this.#rowsOf(numbers.slice(first, first + TOGETHER)));
      for (const row of rows) this.#known.set(this.#numberOf(row), row);
    }
  }
}
