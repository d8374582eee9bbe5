/** The columns of the listing of machines: which there are, and how each is sorted. */
import type { Machine, Schema } from '$lib/api/client';

export type Sort = Schema['MachineSort'];

export interface Column {
  key: string;
  name: string;
  /** How the service sorts by it, and whether the highest comes first. */
  sort?: Sort;
  descending?: boolean;
}

export const DAYS = 90;

export const COLUMNS: Column[] = [
  { key: 'client', name: 'client', sort: 'client' },
  { key: 'system', name: 'system' },
  { key: 'model', name: 'make and model' },
  { key: 'tightest', name: 'tightest volume', sort: 'tightest', descending: true },
  { key: 'line', name: `free, ${DAYS} days` },
  { key: 'crossing', name: 'over its threshold', sort: 'crossing' },
  { key: 'cleaned', name: 'last cleaned', sort: 'cleaned' },
  { key: 'round', name: 'next round', sort: 'round' },
  { key: 'seen', name: 'last contact', sort: 'seen' }
];
export const TAG: Column = { key: 'tag', name: 'machine', sort: 'tag' };
const FIRST_SHOWN = COLUMNS.map((column) => column.key).filter((key) => key !== 'model');

/** The columns of an address, in our order; the usual ones where it names none. */
export function columnsOf(names: string | null): Column[] {
  const wanted = names === null ? FIRST_SHOWN : names.split(',');
  return COLUMNS.filter((column) => wanted.includes(column.key));
}

/** What an address says for some columns; null for the usual ones. */
export function namesOf(columns: Column[]): string | null {
  const keys = columns.map((column) => column.key);
  return keys.join() === FIRST_SHOWN.join() ? null : keys.join();
}

/** Which way a listing is sorted. */
export interface Order {
  sort: Sort;
  descending: boolean;
}

export function orderOf(sort: string | null, way: string | null): Order {
  const column =
    [TAG, ...COLUMNS].find((c) => c.sort === sort) ?? COLUMNS.find((c) => c.sort === 'tightest')!;
  const usual = column.descending ?? false;
  return { sort: column.sort!, descending: way === 'other' ? !usual : usual };
}

/** The order after a heading was pressed: by it, or the other way round where it was so already. */
export function pressed(column: Column, now: Order): Record<string, string | null> {
  const usual = column.descending ?? false;
  const again = now.sort === column.sort && now.descending === usual;
  return { sort: column.sort ?? null, way: again ? 'other' : null };
}

export function tightest(machine: Machine) {
  return machine.volumes.toSorted((a, b) => a.free / a.capacity - b.free / b.capacity)[0];
}

export function isNearlyFull(machine: Machine): boolean {
  return machine.volumes.some(
    (volume) => 100 * (volume.capacity - volume.free) > machine.limit_percent * volume.capacity
  );
}
