/** Two people at once: what the service says when a thing was changed since it was read. */

export interface Changed<T> {
  who: string;
  at: string | null;
  /** The version that is in force now. */
  current: T;
}

/** What an answer of status 412 says; null for any other problem. */
export function changedMeanwhile<T>(problem: unknown): Changed<T> | null {
  if (!problem || typeof problem !== 'object' || !('current' in problem)) return null;
  const { current, changed_by, changed_at } = problem as Record<string, unknown>;
  return {
    who: typeof changed_by === 'string' && changed_by ? changed_by : 'Somebody',
    at: typeof changed_at === 'string' ? changed_at : null,
    current: current as T
  };
}

/** The fields in which two versions differ: name, ours, theirs. */
export function differences(
  ours: Record<string, string>,
  theirs: Record<string, string>
): [string, string, string][] {
  return Object.keys(ours)
    .filter((name) => ours[name] !== theirs[name])
    .map((name) => [name, ours[name] ?? '', theirs[name] ?? '']);
}
