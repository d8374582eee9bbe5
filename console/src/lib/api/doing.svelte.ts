/** A change that a person asked for: under way, failed in words, or done. */
import { inWords } from './client';

type Reply<T> = { data?: T; error?: unknown; response: Response };

export class Doing {
  busy = $state(false);
  /** What went wrong last, in words; empty if nothing did. */
  problem = $state('');
  said = $state('');

  /**
   * Do it once, however often the button is pressed meanwhile. Returns whether it went well; `said`
   * is then shown.
   */
  async try<T>(call: () => Promise<Reply<T>>, said = ''): Promise<boolean> {
    if (this.busy) return false;
    this.busy = true;
    this.said = '';
    try {
      const { error, response } = await call();
      const isWell = error === undefined && response.ok;
      this.problem = isWell ? '' : inWords(error);
      if (isWell) this.said = said;
      return isWell;
    } finally {
      this.busy = false;
    }
  }
}
