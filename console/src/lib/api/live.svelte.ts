import { changed } from './changes';
import type { Schema } from './client';
import { queries } from './queries';

export type Event = Schema['Event'];
export type Kind = Event['kind'];
type Listener = (event: Event) => void;

const KINDS: Kind[] = [
  'shop',
  'client',
  'machine',
  'reading',
  'rule',
  'round',
  'run',
  'survey',
  'record',
  'consent',
  'hold',
  'attention'
];

/** What changes in the shop, as the service tells it. The browser catches up by `Last-Event-ID`. */
class Live {
  connected = $state(true);
  #source: EventSource | null = null;
  #listeners = new Set<Listener>();

  start() {
    if (this.#source) return;
    const source = new EventSource('/api/v1/events');
    source.onopen = () => {
      // what was missed meanwhile is told again only as far back as the service keeps it
      if (!this.connected) void queries.invalidateQueries();
      this.connected = true;
    };
    source.onerror = () => {
      this.connected = false;
    };
    for (const kind of KINDS) {
      source.addEventListener(kind, (message) => {
        const event = JSON.parse((message as MessageEvent<string>).data) as Event;
        changed(event);
        for (const listener of this.#listeners) listener(event);
      });
    }
    this.#source = source;
  }

  stop() {
    this.#source?.close();
    this.#source = null;
  }

  /**
   * Call `listener` after events of some kinds, of one machine or of all; bursts are folded into one
   * call after `fold` milliseconds. Returns what stops it.
   */
  on(kinds: Kind[], listener: () => void, fold = 150, machine?: number): () => void {
    let timer: ReturnType<typeof setTimeout> | undefined;
    const own = (event: Event) => {
      if (!kinds.includes(event.kind)) return;
      if (machine !== undefined && event.machine_id !== machine) return;
      timer ??= setTimeout(() => {
        timer = undefined;
        listener();
      }, fold);
    };
    this.#listeners.add(own);
    return () => {
      clearTimeout(timer);
      this.#listeners.delete(own);
    };
  }
}

export const live = new Live();
