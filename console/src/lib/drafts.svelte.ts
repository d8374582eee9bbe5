/**
 * What somebody types survives a reload: the fields of a form, kept by the browser's tab until they
 * are saved, left on purpose, or somebody signs out.
 */
import { untrack } from 'svelte';

const PREFIX = 'phylax-draft:';

/** What was kept under a key; null where nothing was. */
export function keptDraft(key: string): Record<string, unknown> | null {
  try {
    const kept: unknown = JSON.parse(sessionStorage.getItem(PREFIX + key) ?? 'null');
    return kept && typeof kept === 'object' ? (kept as Record<string, unknown>) : null;
  } catch {
    return null;
  }
}

/** Keep fields under a key, or forget them: for a form that is filled after it was asked for. */
export function keepDraft(key: string, fields: object | null): void {
  if (fields === null) sessionStorage.removeItem(PREFIX + key);
  else sessionStorage.setItem(PREFIX + key, JSON.stringify(fields));
}

export class Draft<T extends object> {
  #key: string;
  #blank: T;
  fields: T;
  /** Whether something was typed before, which is shown again. */
  restored = $state(false);

  /** Fields under a key, as they were typed, else as given. Made while a component is set up. */
  constructor(key: string, blank: T) {
    const kept = keptDraft(key);
    // of an earlier version of the form only what is still a field, of the same kind
    const fitting = Object.entries(kept ?? {}).filter(
      ([name, value]) =>
        name in blank &&
        typeof value === typeof blank[name as keyof T] &&
        Array.isArray(value) === Array.isArray(blank[name as keyof T])
    );
    const fields = $state({ ...structuredClone(blank), ...Object.fromEntries(fitting) } as T);
    this.#key = PREFIX + key;
    this.#blank = blank;
    this.fields = fields;
    this.restored = fitting.length > 0;
    $effect(() => {
      const text = JSON.stringify(this.fields);
      if (text === JSON.stringify(untrack(() => this.#blank))) sessionStorage.removeItem(this.#key);
      else sessionStorage.setItem(this.#key, text);
    });
  }

  /** Begin anew, from other fields or the ones it began with. */
  reset(blank: T = this.#blank): void {
    this.#blank = blank;
    Object.assign(this.fields, structuredClone(blank));
    this.restored = false;
    sessionStorage.removeItem(this.#key);
  }
}

const OWNER = 'phylax-drafts-of';

/** Forget everything that was typed and chosen in this tab. */
export function forgetDrafts(): void {
  for (const key of Object.keys(sessionStorage)) {
    if (key.startsWith('phylax-')) sessionStorage.removeItem(key);
  }
}

/** Whoever signs in again finds what they typed; another person does not. */
export function keepDraftsOf(login: string): void {
  const before = sessionStorage.getItem(OWNER);
  if (before !== null && before !== login) forgetDrafts();
  sessionStorage.setItem(OWNER, login);
}
