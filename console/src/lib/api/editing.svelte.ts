/** Saving over a version that was read; what somebody else saved meanwhile is shown beside it. */
import { changedMeanwhile, type Changed } from '$lib/conflict';
import { Doing } from './doing.svelte';

type Reply = { error?: unknown; response: Response };

export class Editing<T extends { version: number }> {
  doing = new Doing();
  /** What somebody else saved; null: nobody did. */
  conflict = $state<Changed<T> | null>(null);

  /** Save over one version; whether it went well. */
  async save(version: number, call: (headers: { 'If-Match': string }) => Promise<Reply>) {
    return this.doing.try<unknown>(async () => {
      const reply = await call({ 'If-Match': `"${version}"` });
      this.conflict = changedMeanwhile<T>(reply.error);
      return reply;
    }, 'Saved.');
  }

  leave() {
    this.conflict = null;
    this.doing.problem = '';
  }
}
