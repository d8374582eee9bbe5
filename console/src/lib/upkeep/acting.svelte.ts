/** Asking for an action of the fixed set. */
import type { Schema } from '$lib/api/client';
import { Doing } from '$lib/api/doing.svelte';
import { startRun } from '$lib/api/runs';

export type Action = NonNullable<Schema['NewRun']['action']>;

export class Acting extends Doing {
  /** Have it done as soon as the machine calls; whether it was taken on. */
  act(machineId: number, act: Action, word = '') {
    return this.try(() =>
      startRun({ machine_id: machineId, work: 'act', action: act, comment: word })
    );
  }
}
