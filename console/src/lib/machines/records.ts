/** What is asked for about one machine from more than one place. */
import { askPages } from '$lib/api/queries';

/** The newest entries of a machine's record, and older ones page by page. */
export function askRecords(machine: string) {
  return askPages('/api/v2/records', { params: { query: { machine, limit: 15 } } }, (last) => ({
    before: last.id
  }));
}
