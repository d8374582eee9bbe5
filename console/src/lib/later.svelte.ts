/**
 * Work that can wait until the page is free: parts of a page are drawn one after the other, each in a
 * task of its own, so that what is pressed meanwhile answers. On paper all of it is there.
 */
import { flushSync } from 'svelte';

const waiting: (() => void)[] = [];
let asked = false;

/** How long the page may be busy before the work is done anyway, in milliseconds. */
const AT_LATEST = 300;

function onFree(work: () => void): void {
  // not every browser says when it is free
  if (typeof requestIdleCallback === 'function') requestIdleCallback(work, { timeout: AT_LATEST });
  else setTimeout(work);
}

function next(): void {
  waiting.shift()?.();
  asked = waiting.length > 0;
  if (asked) onFree(next);
}

/** Do `work` when the page is free, after what was asked for before. Returns how to call it off. */
export function whenFree(work: () => void): () => void {
  waiting.push(work);
  if (!asked) {
    asked = true;
    onFree(next);
  }
  return () => {
    const place = waiting.indexOf(work);
    if (place >= 0) waiting.splice(place, 1);
  };
}

if (typeof addEventListener === 'function') {
  addEventListener('beforeprint', () => {
    // what is drawn may itself ask for more
    while (waiting.length) flushSync(waiting.shift());
  });
}

/** How many of a list are drawn: some at first, then some more each time the page is free. */
export class Bit {
  #drawn = $state(0);

  constructor(total: () => number, some: number) {
    this.#drawn = some;
    $effect(() => {
      if (this.#drawn < total()) return whenFree(() => (this.#drawn += some));
      return undefined;
    });
  }

  get drawn(): number {
    return this.#drawn;
  }
}
