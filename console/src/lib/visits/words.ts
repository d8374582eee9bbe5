/** Visits in words. */
import type { Schema } from '$lib/api/client';

type Visit = Schema['Visit'];

export const KINDS = ['at the bench', "at the client's", 'from afar'] as const;
export const TURNS = ['us', 'client', 'supplier'] as const;
export type Turn = (typeof TURNS)[number];
export const TURN_NAMES: Record<Turn, string> = {
  us: 'us',
  client: 'the client',
  supplier: 'a supplier'
};
export const PLACES = ['shelf', 'bench', 'client'] as const;

/** For whom the visit waits, as in "Waiting for the client". */
export function waitingFor(visit: Visit): string {
  return `Waiting for ${visit.assignee_name || TURN_NAMES[visit.turn]}`;
}

export function whereItIs(visit: Visit): string {
  if (visit.place === 'client') return "at the client's";
  if (visit.place === 'bench') return 'on the bench';
  return visit.shelf ? `on shelf ${visit.shelf}` : 'on the shelf';
}

/** A day as it is written down: "Fri 4 Dec". */
const DAYS = new Intl.DateTimeFormat('en-IE', { weekday: 'short', day: 'numeric', month: 'short' });
export const day = (text: string | null | undefined) =>
  text ? DAYS.format(new Date(`${text}T12:00:00`)) : '';
