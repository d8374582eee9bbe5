/**
 * What changes in the shop, as the service tells it, to all tabs of a browser by one stream.
 *
 * A browser has six connections to one host, so that seven tabs with a stream each would stall.
 * The tab that holds the lock listens for all; another takes over when it is closed. The browser
 * catches up by `Last-Event-ID`; a new listener asks for everything that is shown.
 */
import { changed } from './changes';
import type { EventKind, ShopEvent } from './client';
import { askAgain } from './queries';

// each kind, or it does not compile
const KINDS = Object.keys({
  shop: true,
  client: true,
  machine: true,
  reading: true,
  rule: true,
  round: true,
  run: true,
  survey: true,
  record: true,
  consent: true,
  hold: true,
  attention: true,
  setting: true,
  check: true
} satisfies Record<EventKind, true>);
const NAME = 'phylax-events';

type Message = { anew: true } | { event: ShopEvent } | { connected: boolean } | { hello: true };

class Live {
  connected = $state(true);
  #stop: AbortController | null = null;

  start(): void {
    if (this.#stop) return;
    const stop = new AbortController();
    this.#stop = stop;
    const tabs = new BroadcastChannel(NAME);
    let listening = false;
    tabs.onmessage = ({ data }: MessageEvent<Message>) => {
      if ('event' in data) changed(data.event);
      else if ('anew' in data) void askAgain(() => true);
      else if ('connected' in data) this.#connection(data.connected);
      // a tab that was just opened hears how the connection is
      else if (listening) tabs.postMessage({ connected: this.connected } satisfies Message);
    };
    stop.signal.addEventListener('abort', () => tabs.close());
    tabs.postMessage({ hello: true } satisfies Message);
    const listen = () =>
      new Promise<void>((resolve) => {
        listening = true;
        const source = this.#listen((message) => tabs.postMessage(message));
        stop.signal.addEventListener('abort', () => {
          source.close();
          resolve();
        });
      });
    // without locks (an address that is not secure) each tab listens for itself
    if (!navigator.locks) void listen();
    else
      navigator.locks
        .request(NAME, { signal: stop.signal }, async () => {
          if (!stop.signal.aborted) await listen();
        })
        .catch(() => undefined);
  }

  stop(): void {
    this.#stop?.abort();
    this.#stop = null;
  }

  #connection(now: boolean): void {
    // what was missed meanwhile is told again only as far back as the service keeps it
    if (now && !this.connected) void askAgain(() => true);
    this.connected = now;
  }

  #listen(tell: (message: Message) => void): EventSource {
    const source = new EventSource('/api/v2/events');
    const connection = (connected: boolean) => {
      this.#connection(connected);
      tell({ connected });
    };
    source.onopen = () => connection(true);
    source.onerror = () => connection(false);
    // what happened since this listener left is not known any more
    source.addEventListener('anew', () => {
      void askAgain(() => true);
      tell({ anew: true });
    });
    for (const kind of KINDS) {
      source.addEventListener(kind, (message) => {
        const event = JSON.parse((message as MessageEvent<string>).data) as ShopEvent;
        changed(event);
        tell({ event });
      });
    }
    return source;
  }
}

export const live = new Live();
