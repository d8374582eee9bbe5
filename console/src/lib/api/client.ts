import { goto } from '$app/navigation';
import createClient, { type Middleware } from 'openapi-fetch';
import type { components, paths } from './schema';

export type Schema = components['schemas'];
export type Machine = Schema['Machine'];
export type Volume = Schema['Volume'];
export type Run = Schema['Run'];
export type RunDetail = Schema['RunDetail'];
export type Ledger = Schema['Ledger'];
export type LedgerLine = Schema['LedgerLine'];
export type ListedItem = Schema['ListedItem'];
export type Round = Schema['Round'];
export type RoundEdit = Schema['RoundEdit'];
export type Routine = Schema['Routine'];
export type AgendaLine = Schema['AgendaLine'];
export type MaintenanceRecord = Schema['Record'];
export type Trend = Schema['Trend'];
export type Outlook = Schema['Outlook'];
export type Crossing = Schema['Crossing'];
export type ShopTrends = Schema['ShopTrends'];
export type VolumeProspect = Schema['VolumeProspect'];
export type Today = Schema['Today'];
export type Attention = Schema['Attention'];
export type Person = Schema['Person'];
export type Client = Schema['Client'];
export type Problem = Schema['ProblemBody'];
export type ShopEvent = Schema['Event'];
export type EventKind = ShopEvent['kind'];

const toSignIn: Middleware = {
  async onResponse({ response }) {
    if (response.status === 403 && location.pathname !== '/shop/you') {
      const problem = (await response.clone().json()) as { type?: string };
      // the shop wants a code as well, and this person has none yet
      if (problem.type?.endsWith(':set-up-codes')) void goto('/shop/you');
    }
    if (response.status === 401 && !location.pathname.startsWith('/sign-in')) {
      void goto(`/sign-in?to=${encodeURIComponent(location.pathname + location.search)}`);
    }
  }
};

/** The status of an answer that never came. */
export const NO_ANSWER = 503;

/** A service that does not answer is a problem like any other, in words. */
const inWordsToo: Middleware = {
  onError({ error }) {
    if (error instanceof DOMException && error.name === 'AbortError') return undefined;
    const detail = 'The service does not answer. Is the service running?';
    return new Response(JSON.stringify({ title: 'No answer', detail }), {
      status: NO_ANSWER,
      headers: { 'Content-Type': 'application/problem+json' }
    });
  }
};

export const api = createClient<paths>({ baseUrl: '' });
api.use(toSignIn, inWordsToo);

/** The sentence of a problem, or of a service that does not answer. */
export function inWords(error: unknown): string {
  if (error && typeof error === 'object' && 'detail' in error) return String(error.detail);
  if (error instanceof TypeError) return 'The service does not answer. Is the service running?';
  return 'Something went wrong; the service could not say what.';
}

/** The `next` page of a listing as path and query, from its `Link` header (RFC 8288). */
export function nextPage(response: Response): string | null {
  return /<([^>]+)>;\s*rel="next"/.exec(response.headers.get('Link') ?? '')?.[1] ?? null;
}
