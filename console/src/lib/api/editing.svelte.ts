/**
 * A form over something that other people may change meanwhile.
 *
 * The version is fixed when the first field is touched: what arrives later never moves under typed
 * work. Only touched fields are sent, over the newest version; a field that both changed is a
 * conflict, which is shown with both values before anything is saved. Typed work survives a reload
 * together with the version that it is about.
 */
import { changedMeanwhile, type Changed } from '$lib/conflict';
import { keepDraft, keptDraft } from '$lib/drafts.svelte';
import { untrack } from 'svelte';
import { Doing } from './doing.svelte';

type Field = string | number | boolean | null;
type Reply<T> = { data?: T; error?: unknown; response: Response };
type Headers = { 'If-Match': string };

interface Options<T extends { version: number }, F extends Record<string, Field>> {
  /** Under which typed work is kept; one for each thing that can be edited. */
  key: string;
  /** The newest version that the page knows. */
  live: () => T;
  fieldsOf: (resource: T) => F;
  /** Sends the touched fields over one version. */
  put: (over: T, touched: Partial<F>, headers: Headers) => Promise<Reply<T>>;
  /** What is shown when it went well. */
  done?: string;
  /** Fields in words, where their name is not enough. */
  labels?: Partial<Record<keyof F, string>>;
}

/** So often a save begins anew because somebody else was quicker; then it is said. */
const TRIES = 5;

export class EditForm<T extends { version: number }, F extends Record<string, Field>> {
  doing = new Doing();
  fields: F;
  /** What somebody else saved in the same fields; null: nobody did. */
  conflict = $state.raw<Changed<T> | null>(null);
  /** Fields that differ from the version they began with. */
  touched: (keyof F & string)[] = $derived.by(() => {
    const before = this.#options.fieldsOf(this.#base);
    return this.#names.filter((name) => !isSame(this.fields[name], before[name]));
  });
  isTouched = $derived(this.touched.length > 0);
  #options: Options<T, F>;
  #names: (keyof F & string)[];
  #base: T = $state.raw() as T;

  /** Made while a component is set up. */
  constructor(options: Options<T, F>) {
    const { key, live, fieldsOf } = options;
    this.#options = options;
    const draft = restoredDraft(key, untrack(live), fieldsOf);
    const fields = $state({ ...fieldsOf(draft.base), ...draft.fields });
    this.fields = fields;
    this.#base = draft.base;
    this.#names = Object.keys(fields);
    $effect(() => {
      const now = live();
      // an answer that was under way while this was saved is older than what was saved
      if (this.isTouched || untrack(() => this.doing.busy)) return;
      untrack(() => {
        if (now.version >= this.#base.version) this.reset(now);
      });
    });
    $effect(() => {
      keepDraft(key, this.isTouched ? { base: this.#base, fields: { ...this.fields } } : null);
    });
  }

  /** Begin anew from one version. */
  reset(base: T = this.#options.live()): void {
    this.#base = base;
    Object.assign(this.fields, this.#options.fieldsOf(base));
    this.conflict = null;
    this.doing.problem = '';
  }

  /** Save what was touched; whether it went well. */
  async save(): Promise<boolean> {
    let saved: T | undefined;
    const others: string[] = [];
    const isDone = await this.doing.try<unknown>(async () => {
      let over = this.#base;
      for (let tries = 1; ; tries++) {
        const reply = await this.#options.put(over, this.#changes(), {
          'If-Match': `"${over.version}"`
        });
        saved = reply.data;
        const meanwhile = changedMeanwhile<T>(reply.error);
        if (!meanwhile) return reply;
        if (this.#clashing(meanwhile.current).length) this.conflict = meanwhile;
        if (this.conflict || tries === TRIES) return reply;
        over = meanwhile.current;
        others.push(meanwhile.who);
      }
    });
    if (!isDone) return false;
    this.doing.said = this.#options.done ?? 'Saved.';
    if (others.length)
      this.doing.said += ` ${[...new Set(others)].join(' and ')} changed other fields meanwhile: that is kept.`;
    if (saved) this.reset(saved);
    return true;
  }

  /** Save ours over theirs, which was seen; what we did not touch stays theirs. */
  async saveOurs(): Promise<boolean> {
    const { conflict } = this;
    if (!conflict) return false;
    const ours = this.#changes();
    this.reset(conflict.current);
    Object.assign(this.fields, ours);
    return this.save();
  }

  takeTheirs(): void {
    if (this.conflict) this.reset(this.conflict.current);
  }

  /** The fields in conflict, in words: ours and theirs. */
  get versions(): { ours: Record<string, string>; theirs: Record<string, string> } {
    const ours: Record<string, string> = {};
    const theirs: Record<string, string> = {};
    if (this.conflict) {
      const fields = this.#options.fieldsOf(this.conflict.current);
      for (const name of this.#clashing(this.conflict.current)) {
        const label = this.#options.labels?.[name] ?? name.replaceAll('_', ' ');
        ours[label] = inWords(this.fields[name]);
        theirs[label] = inWords(fields[name]);
      }
    }
    return { ours, theirs };
  }

  #changes(): Partial<F> {
    const changes: Partial<F> = {};
    for (const name of this.touched) changes[name] = this.fields[name];
    return changes;
  }

  /** Touched fields that somebody else changed too, to something else. */
  #clashing(current: T): (keyof F & string)[] {
    const { fieldsOf } = this.#options;
    const before = fieldsOf(this.#base);
    const theirs = fieldsOf(current);
    return this.touched.filter(
      (name) => !isSame(theirs[name], before[name]) && !isSame(theirs[name], this.fields[name])
    );
  }
}

function inWords(value: Field | undefined): string {
  if (typeof value === 'boolean') return value ? 'yes' : 'no';
  return value == null ? '' : String(value);
}

/** What was typed before a reload, with the version it is about; of it only what is still a field
    of the same kind. */
function restoredDraft<T extends { version: number }, F extends Record<string, Field>>(
  key: string,
  live: T,
  fieldsOf: (resource: T) => F
): { base: T; fields: Partial<F> } {
  const kept = keptDraft(key);
  const base = kept?.base as T | undefined;
  const typed = kept?.fields;
  if (!base || typeof base.version !== 'number' || !typed || typeof typed !== 'object')
    return { base: live, fields: {} };
  const blank = fieldsOf(live);
  const fitting = Object.entries(typed).filter(
    ([name, value]) => name in blank && isSameKind(value, blank[name])
  );
  return { base, fields: Object.fromEntries(fitting) as Partial<F> };
}

/** A number field gives a number, or nothing where it is empty, for what began as text. */
const isSame = (one: Field | undefined, other: Field | undefined) =>
  String(one ?? '') === String(other ?? '');

const isSameKind = (value: unknown, field: Field | undefined) =>
  (typeof value === 'boolean') === (typeof field === 'boolean') && typeof value !== 'object';
