/**
 * The one way in which pages load data: queries over the typed client, by address and parameters.
 *
 * Answers that were overtaken are dropped, failures are in words and can be tried again, and an idle
 * page asks nothing: what the service says has changed is asked for again (`changes`), nothing else.
 */
import { QueryClient } from '@tanstack/svelte-query';
import type { ClientPathsWithMethod, MaybeOptionalInit, MethodResponse } from 'openapi-fetch';
import { NO_ANSWER, api, inWords } from './client';
import type { paths } from './schema';

export type Asked = ClientPathsWithMethod<typeof api, 'get'>;
type Init<P extends Asked> = MaybeOptionalInit<paths[P], 'get'>;
type Answer<P extends Asked> = MethodResponse<typeof api, 'get', P>;
type Reply<T> = { data?: T; error?: unknown; response: Response };
type Params = { path?: Record<string, unknown>; query?: Record<string, unknown> };

/** A call that failed, with the sentence for people. */
export class CallError extends Error {
  constructor(
    readonly problem: unknown,
    readonly status: number
  ) {
    super(inWords(problem));
  }
}

/** What came, or the CallError of what went wrong. */
export async function answerOf<T>(call: Promise<Reply<T>>): Promise<T> {
  const { data, error, response } = await call;
  if (error !== undefined || !response.ok) throw new CallError(error, response.status);
  return data as T;
}

function paramsOf(init: unknown): Params {
  return (init as { params?: Params } | undefined)?.params ?? {};
}

function get<P extends Asked>(path: P, params: Params, signal: AbortSignal) {
  return api.GET(path, { params, signal } as never) as Promise<Reply<Answer<P>>>;
}

/** The options of a query for one address; its key is the address with its parameters. */
export function ask<P extends Asked>(path: P, init?: Init<P>) {
  const params = paramsOf(init);
  return {
    queryKey: [path, params] as const,
    queryFn: ({ signal }: { signal: AbortSignal }) => answerOf(get(path, params, signal))
  };
}

export interface Page<T> {
  items: T[];
  more: boolean;
}

/**
 * The same for a listing that goes on page by page: `next` says from its last item what asks for the
 * page after it.
 */
export function askPages<P extends Asked>(
  path: P,
  init: Init<P>,
  next: (last: Answer<P> extends (infer T)[] ? T : never) => Record<string, number>
) {
  type Item = Answer<P> extends (infer T)[] ? T : never;
  const params = paramsOf(init);
  return {
    queryKey: [path, params, 'pages'] as const,
    initialPageParam: {} as Record<string, number>,
    queryFn: async (context: {
      signal: AbortSignal;
      pageParam: Record<string, number>;
    }): Promise<Page<Item>> => {
      const query = { ...params.query, ...context.pageParam };
      const reply = await get(path, { ...params, query }, context.signal);
      if (reply.error !== undefined || !reply.response.ok)
        throw new CallError(reply.error, reply.response.status);
      return { items: (reply.data ?? []) as Item[], more: reply.response.headers.has('Link') };
    },
    getNextPageParam: (last: Page<Item>) => {
      const end = last.items.at(-1);
      return last.more && end !== undefined ? next(end) : undefined;
    }
  };
}

/** All items of the pages that came. */
export function itemsOf<T>(data: { pages: Page<T>[] } | undefined): T[] {
  return data?.pages.flatMap((page) => page.items) ?? [];
}

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      // what changes is told; nothing grows old by itself
      staleTime: Infinity,
      gcTime: 5 * 60_000,
      networkMode: 'always',
      // what is drawn later reads later: it must not find what stood there before
      notifyOnChangeProps: 'all',
      refetchOnWindowFocus: false,
      retry: (failures, error) =>
        error instanceof CallError && error.status === NO_ANSWER && failures < 2,
      retryDelay: 700
    },
    mutations: { networkMode: 'always', retry: false }
  }
});

/**
 * Ask again for some of what is shown. What is asked for the first time just now is asked once more
 * when that answer is there: it may be of before the change, and is not overtaken by itself.
 */
export async function askAgain(isConcerned: (queryKey: readonly unknown[]) => boolean) {
  const first = queries.getQueryCache().findAll({
    fetchStatus: 'fetching',
    predicate: (query) => query.state.data === undefined && isConcerned(query.queryKey)
  });
  await queries.invalidateQueries({ predicate: (query) => isConcerned(query.queryKey) });
  if (first.length)
    await queries.invalidateQueries({ predicate: (query) => first.includes(query) });
}

/** Ask again for everything that is shown at some addresses, after a change of one's own. */
export function refresh(...paths: Asked[]): Promise<void> {
  return askAgain((queryKey) => paths.includes(queryKey[0] as Asked));
}
