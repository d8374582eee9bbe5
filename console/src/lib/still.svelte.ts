/** A list that changes by itself stays as it is while somebody is in it. */

/** Milliseconds for which what somebody did there shows at once. */
const OWN_DEED = 3000;
/** Milliseconds without a movement or a key after which nobody is there: a pointer may lie in a list
 * all night. */
const ASLEEP = 60_000;

export class Still<T> {
  #latest: () => T;
  #question: () => string;
  #held = $state.raw<{ value: T; question: string } | null>(null);
  #deedUntil = 0;
  #rests: ReturnType<typeof setTimeout> | undefined;

  /**
   * `latest` is what it would be; values that are equal are the same, as queries keep them.
   * `question` is what it answers: to another one the newest answer shows at once.
   */
  constructor(latest: () => T, question: () => string = () => '') {
    this.#latest = latest;
    this.#question = question;
  }

  get #isHeld(): boolean {
    return this.#held !== null && this.#held.question === this.#question();
  }

  get shown(): T {
    return this.#held && this.#isHeld ? this.#held.value : this.#latest();
  }

  /** Whether there is something newer than what is shown. */
  get hasChanged(): boolean {
    return this.#isHeld && this.#held?.value !== this.#latest();
  }

  /** Show what is newest. */
  release = () => {
    this.#held = null;
  };

  /** Attached to what holds the list: while a pointer or the keyboard is in it, nothing moves. */
  within = (node: HTMLElement) => {
    const hold = () => {
      clearTimeout(this.#rests);
      this.#rests = setTimeout(this.release, ASLEEP);
      if (!this.#isHeld && Date.now() > this.#deedUntil) {
        this.#held = { value: this.#latest(), question: this.#question() };
      }
    };
    // what is taken off the page while it is drawn anew leaves as well, and is not to draw then
    const leave = () => queueMicrotask(this.release);
    const pointed = (event: Event) => (event as PointerEvent).pointerType !== 'touch' && hold();
    const listeners: [keyof HTMLElementEventMap, (event: Event) => void][] = [
      // where the page moves under a pointer that rests, it enters and does not move
      ['pointerenter', pointed],
      ['pointermove', pointed],
      ['keydown', hold],
      ['focusin', (event) => (event.target as HTMLElement).matches(':focus-visible') && hold()],
      ['pointerleave', () => !node.querySelector(':focus-visible') && leave()],
      [
        'focusout',
        (event) =>
          !node.contains((event as FocusEvent).relatedTarget as Node | null) &&
          !node.matches(':hover') &&
          leave()
      ],
      [
        'click',
        () => {
          this.#deedUntil = Date.now() + OWN_DEED;
          this.release();
        }
      ]
    ];
    for (const [name, listener] of listeners) node.addEventListener(name, listener);
    return () => {
      clearTimeout(this.#rests);
      for (const [name, listener] of listeners) node.removeEventListener(name, listener);
    };
  };
}
