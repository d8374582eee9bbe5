/** What was done just now and can be taken back: offered for a while, one at a time. */
import { Doing } from './api/doing.svelte';

type Call = Parameters<Doing['try']>[0];

const SHOWN_FOR = 15_000;

class Undo {
  /** What was done, in words; empty where nothing is offered. */
  words = $state('');
  doing = new Doing();
  #call: Call | null = null;
  #after: () => Promise<unknown> = async () => undefined;
  #timer: ReturnType<typeof setTimeout> | undefined;

  /** Offer to take something back by a call, after which `after` asks anew for what it changed. */
  offer(words: string, call: Call, after: () => Promise<unknown>) {
    this.words = words;
    this.#call = call;
    this.#after = after;
    this.doing.problem = '';
    this.keep();
    this.letGo();
  }
  /** As long as somebody points at it or has the focus on it, it stays. */
  keep() {
    clearTimeout(this.#timer);
  }
  letGo() {
    this.keep();
    this.#timer = setTimeout(() => this.end(), SHOWN_FOR);
  }
  end() {
    this.keep();
    this.words = '';
    this.#call = null;
  }
  async take() {
    if (!this.#call) return;
    this.keep();
    if (await this.doing.try(this.#call)) this.end();
    await this.#after();
  }
}

export const undo = new Undo();
