/** What a column of a list may hold, as people read it. */
import type { Schema } from '$lib/api/client';

export type ListField = Schema['ListField'];
export const FIELDS: { field: ListField; name: string }[] = [
  { field: 'client', name: 'client' },
  { field: 'client_number', name: "client's number in the list" },
  { field: 'contact', name: 'contact' },
  { field: 'mail', name: 'mail' },
  { field: 'phone', name: 'phone' },
  { field: 'contact_by', name: 'best reached by' },
  { field: 'hours', name: 'when' },
  { field: 'agreements', name: 'agreements' },
  { field: 'client_note', name: 'note on the client' },
  { field: 'number', name: "machine's number in the list" },
  { field: 'tag', name: 'tag' },
  { field: 'system', name: 'system' },
  { field: 'system_version', name: 'version of the system' },
  { field: 'make', name: 'make' },
  { field: 'model', name: 'model' },
  { field: 'serial', name: 'serial number' },
  { field: 'year', name: 'year' },
  { field: 'memory', name: 'memory' },
  { field: 'processor', name: 'processor' },
  { field: 'used_for', name: 'used for' },
  { field: 'used_by', name: 'used by' },
  { field: 'location', name: 'location' },
  { field: 'note', name: 'note on the machine' }
];
export const nameOf = (field: ListField): string =>
  FIELDS.find((each) => each.field === field)?.name ?? field;

/** What happens to a line, the most important first. */
export const LINE_STATUSES: { status: Schema['LineStatus']; name: string }[] = [
  { status: 'refused', name: 'refused' },
  { status: 'differs', name: 'differs from our records, which are kept' },
  { status: 'double', name: 'listed twice' },
  { status: 'changed', name: 'changed' },
  { status: 'completed', name: 'completed' },
  { status: 'added', name: 'added' },
  { status: 'same', name: 'already known' }
];
