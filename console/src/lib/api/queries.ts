/**
 * The one way in which pages load data: queries over the typed client, by address and parameters.
 *
 * Answers that were overtaken are dropped, failures are in words and can be tried again, and an idle
 * page asks nothing: what the service says has changed is asked for again (`live`), nothing else.
 */
import { QueryClient, keepPreviousData } from '@tanstack/svelte-query';
import type { ClientPathsWithMethod, MaybeOptionalInit, MethodResponse } from 'openapi-fetch';
import { api, inWords } from './client';
import type { paths } from './schema';

export type Asked = ClientPathsWithMethod<typeof api, 'get'>;
type Init<P extends Asked> = MaybeOptionalInit<paths[P], 'get'>;

/** A call that failed: its sentence, and the service's answer where there was one. */
export class CallError extends Error {
  constructor(
    readonly cause: unknown,
    readonly status: number | undefined
  ) {
    super(inWords(cause));
  }
}

/** What came, or the CallError of what went wrong. */
export async function answerOf<T>(
  call: Promise<{ data?: T; error?: unknown; response: Response }>
): Promise<T> {
  let answer;
  try {
    answer = await call;
  } catch (error) {
    if (error instanceof DOMException && error.name === 'AbortError') throw error;
    throw new CallError(error, undefined);
  }
  if (answer.error !== undefined || !answer.response.ok)
    throw new CallError(answer.error, answer.response.status);
  return answer.data as T;
}

/** The options of a query for one address; its key is the address with its parameters. */
export function ask<P extends Asked>(path: P, init?: Init<P>) {
  type Answer = MethodResponse<typeof api, 'get', P>;
  return {
    queryKey: [path, (init as { params?: unknown } | undefined)?.params ?? {}] as const,
    queryFn: ({ signal }: { signal: AbortSignal }) =>
      answerOf(
        api.GET(path, { ...(init ?? {}), signal } as never) as Promise<{
          data?: Answer;
          error?: unknown;
          response: Response;
        }>
      )
  };
}

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      // what changes is told; nothing grows old by itself
      staleTime: Infinity,
      gcTime: 5 * 60_000,
      networkMode: 'always',
      refetchOnWindowFocus: false,
      retry: (failures, error) =>
        error instanceof CallError && error.status === undefined && failures < 2,
      retryDelay: 700
    },
    mutations: { networkMode: 'always', retry: false }
  }
});

export { keepPreviousData };
