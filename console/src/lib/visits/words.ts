/** Visits in words. */
import type { Schema } from '$lib/api/client';

type Visit = Schema['Visit'];

export const KINDS = ['at the bench', "at the client's", 'from afar'] as const;
export const WHOSE = ['ours', "the client's", "a supplier's"] as const;
export const PLACES = ['shelf', 'bench', 'client'] as const;

/** Whose move it is, as on the board. */
export function whoseMove(visit: Visit): string {
  return visit.whom_name ? `${visit.whom_name}'s` : visit.whose;
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
