import { changed } from './changes';
import type { EventKind, ShopEvent } from './client';
import { queries } from './queries';

const KINDS: EventKind[] = [
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
      source.addEventListener(kind, (message) =>
        changed(JSON.parse((message as MessageEvent<string>).data) as ShopEvent)
      );
    }
    this.#source = source;
  }

  stop() {
    this.#source?.close();
    this.#source = null;
  }
}

export const live = new Live();
