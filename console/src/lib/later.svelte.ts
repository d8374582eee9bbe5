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

function callOff(work: () => void): void {
  const place = waiting.indexOf(work);
  if (place >= 0) waiting.splice(place, 1);
}

/** Do `work` when the page is free, after what was asked for before. Returns how to call it off. */
export function whenFree(work: () => void): () => void {
  waiting.push(work);
  if (!asked) {
    asked = true;
    onFree(next);
  }
  return () => callOff(work);
}

/** Parts that nobody has come near yet, by the element that stands in their place. */
const away = new Map<Element, () => void>();
let watching: IntersectionObserver | undefined;

function drawNear(element: Element): void {
  const work = away.get(element);
  if (!work) return;
  away.delete(element);
  watching?.unobserve(element);
  whenFree(work);
}

function drawAll(): void {
  for (const element of [...away.keys()]) drawNear(element);
}

/**
 * Do `work` when `element` is in sight or nearly, or as soon as somebody touches the page or prints it:
 * then all of it is drawn, so that the browser's own search finds what is there. Returns how to call it
 * off.
 */
export function whenNear(element: Element, work: () => void): () => void {
  // not every browser says what is in sight
  if (typeof IntersectionObserver !== 'function') return whenFree(work);
  watching ??= new IntersectionObserver(
    (entries) => entries.filter((e) => e.isIntersecting).forEach((e) => drawNear(e.target)),
    { rootMargin: '50% 0px' }
  );
  away.set(element, work);
  watching.observe(element);
  return () => {
    away.delete(element);
    watching?.unobserve(element);
    callOff(work);
  };
}

if (typeof addEventListener === 'function') {
  addEventListener('beforeprint', () => {
    // what is drawn may itself ask for more
    do {
      drawAll();
      while (waiting.length) flushSync(waiting.shift());
    } while (away.size);
  });
  for (const touch of [
    'keydown',
    'pointermove',
    'pointerdown',
    'wheel',
    'scroll',
    'focusin',
    'blur'
  ])
    addEventListener(touch, drawAll, { passive: true, capture: true });
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
