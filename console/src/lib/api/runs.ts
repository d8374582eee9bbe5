/** Asking for work on a machine, to be done as soon as it calls. */
import { everything } from '$lib/machines/volumes';
import { api, type Schema } from './client';

type NewRun = Schema['NewRun'];

/** A run; asked for twice under one key, it is made once. */
export function startRun(wanted: Pick<NewRun, 'machine_id' | 'work'> & Partial<NewRun>) {
  return api.POST('/api/v2/runs', {
    headers: { 'Idempotency-Key': crypto.randomUUID() },
    body: {
      categories: [],
      checks: [],
      consent_ids: [],
      held: [],
      if_taken: 'leave',
      programs: [],
      values: [],
      changes: [],
      modes: {},
      comment: '',
      volumes: everything,
      ...wanted
    }
  });
}
