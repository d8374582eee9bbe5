<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Machine, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { Draft } from '$lib/drafts.svelte';
  import { undo } from '$lib/undo.svelte';
  import { untrack } from 'svelte';
  import { ask, refresh } from '$lib/api/queries';
  import Folder from '@lucide/svelte/icons/folder';
  import Globe from '@lucide/svelte/icons/globe';
  import Regex from '@lucide/svelte/icons/asterisk';
  import { count, size } from '$lib/words';
  import ClientBox from './ClientBox.svelte';
  import Failed from './Failed.svelte';
  import Outcome from './Outcome.svelte';
  import When from './When.svelte';

  interface Props {
    /** Whose list; without one, everything that anyone protects. */
    machine?: Machine;
    mayChange: boolean;
    isOwner: boolean;
  }
  let { machine, mayChange, isOwner }: Props = $props();

  type Entry = Schema['ListedProtection'];
  type Kind = Schema['ProtectKind'];
  const KINDS: { kind: Kind; name: string; example: string }[] = [
    { kind: 'folder', name: 'folder', example: 'C:\\Archive or /srv/archive' },
    { kind: 'pattern', name: 'pattern', example: '*.dcm or Scans/' },
    { kind: 'site', name: 'web site', example: 'tickets.example' }
  ];

  const draft = untrack(
    () =>
      new Draft(`protect:${machine?.id ?? 'shop'}`, {
        kind: 'folder',
        what: '',
        note: '',
        whom: ''
      })
  );
  const fields = draft.fields;
  const doing = new Doing();
  let testPath = $state('');

  type OnMachine = Schema['ProtectionOnMachine'];
  let opened = $state(0);

  /** What an entry covers, in words: on this machine, or on all that it is for. */
  function coverOf(entry: Entry): string {
    if (machine) {
      if (entry.not_known) return 'not looked at since it was added';
      if (entry.kept) return `keeps ${count(entry.kept, 'item')} here, ${size(entry.kept_size)}`;
      return entry.covers ? 'the folder is there' : 'covers nothing here';
    }
    const parts = [];
    if (entry.covers) parts.push(`covers something on ${count(entry.covers, 'machine')}`);
    if (entry.covers_nothing && entry.covers) parts.push(`nothing on ${entry.covers_nothing}`);
    else if (entry.covers_nothing)
      parts.push(`covers nothing, on ${count(entry.covers_nothing, 'machine')}`);
    if (entry.not_known) parts.push(`${entry.not_known} not looked at since`);
    return parts.join(', ') || 'for no machine';
  }
  function hereOf(on: OnMachine): string {
    if (!on.surveyed_at) return 'not looked at since it was added';
    if (on.kept) return `${count(on.kept, 'item')}, ${size(on.kept_size)}`;
    return on.exists ? 'the folder is there' : 'nothing';
  }
  const ofMachine = createQuery(() => ({
    ...ask('/api/v2/machines/{machine}/protections', {
      params: { path: { machine: machine?.tag ?? '' } }
    }),
    enabled: machine !== undefined
  }));
  const ofAll = createQuery(() => ({ ...ask('/api/v2/protections'), enabled: !machine }));
  const asked = $derived(machine ? ofMachine : ofAll);
  const entries = $derived<Entry[]>(asked.data ?? []);
  const machinesAsked = createQuery(() => ({
    ...ask('/api/v2/protections/{number}/machines', { params: { path: { number: opened } } }),
    enabled: opened !== 0
  }));
  const open = (entry: Entry) => (opened = opened === entry.id ? 0 : entry.id);
  const again = () =>
    refresh(
      '/api/v2/protections',
      '/api/v2/machines/{machine}/protections',
      '/api/v2/machines/{machine}/protections/test',
      '/api/v2/protections/{number}/machines'
    );

  const subject = $derived.by((): { scope: Entry['scope']; subject_id: number } => {
    if (machine && fields.whom !== 'client') return { scope: 'machine', subject_id: machine.id };
    if (machine) return { scope: 'client', subject_id: machine.client_id };
    return fields.whom
      ? { scope: 'client', subject_id: Number(fields.whom) }
      : { scope: 'shop', subject_id: 0 };
  });

  async function add(event: SubmitEvent) {
    event.preventDefault();
    const call = () =>
      api.POST('/api/v2/protections', {
        headers: { 'Idempotency-Key': crypto.randomUUID() },
        body: {
          ...subject,
          entry: { kind: fields.kind as Kind, pattern: fields.what.trim() },
          note: fields.note.trim()
        }
      });
    if (await doing.try(call)) {
      draft.reset({ ...fields, what: '', note: '' });
      await again();
    }
  }
  async function remove(entry: Entry) {
    const path = { number: entry.id };
    const gone = await doing.try(() =>
      api.DELETE('/api/v2/protections/{number}', { params: { path } })
    );
    await again();
    if (!gone) return;
    const { scope, subject_id, note } = entry;
    const body = { scope, subject_id, entry: entry.entry, note };
    const headers = { 'Idempotency-Key': crypto.randomUUID() };
    undo.offer(
      `${entry.entry.pattern} is off the list.`,
      () => api.POST('/api/v2/protections', { headers, body }),
      again
    );
  }
  // a question of its own, asked once the button is pressed and again when the list changes
  let toTest = $state('');
  const testAsked = createQuery(() => ({
    ...ask('/api/v2/machines/{machine}/protections/test', {
      params: { path: { machine: machine?.tag ?? '' }, query: { path: toTest } }
    }),
    enabled: machine !== undefined && toTest !== ''
  }));
  const tested = $derived.by(() => {
    if (!toTest || testAsked.isPending) return '';
    if (testAsked.error) return testAsked.error.message;
    const by = testAsked.data?.protected_by;
    return by
      ? `It stays: ${by.entry.kind} ${by.entry.pattern}, for ${by.subject || 'the shop'}.`
      : 'Nothing on the list protects it.';
  });
  function test(event: SubmitEvent) {
    event.preventDefault();
    toTest = testPath.trim();
  }
</script>

<ul class="ruled mt-2" data-testid="protections">
  {#each entries as entry (entry.id)}
    <li class="flex flex-wrap items-center justify-between gap-x-4 gap-y-1 py-2">
      <span class="flex min-w-0 flex-wrap items-center gap-x-2">
        {#if entry.entry.kind === 'folder'}<Folder aria-label="folder" size={18} />
        {:else if entry.entry.kind === 'site'}<Globe aria-label="web site" size={18} />
        {:else}<Regex aria-label="pattern" size={18} />{/if}
        <code class="break-all">{entry.entry.pattern}</code>
        {#if entry.note}<span class="muted">{entry.note}</span>{/if}
      </span>
      <span class="flex flex-wrap items-center gap-x-3">
        {#if machine}
          <span class="text-sm" class:lookhere={entry.covers_nothing > 0 && entry.scope !== 'shop'}
            >{coverOf(entry)}</span
          >
        {:else}
          <button
            class="plain text-sm"
            class:lookhere={entry.covers_nothing > 0 && !entry.covers}
            aria-expanded={opened === entry.id}
            onclick={() => open(entry)}>{coverOf(entry)}</button
          >
        {/if}
        <span class="muted text-sm">
          for {entry.subject || 'the shop'}; {entry.added_by}, <When at={entry.added_at} />
        </span>
        {#if mayChange && (isOwner || entry.scope !== 'shop')}
          <button class="plain text-sm" onclick={() => remove(entry)}>Remove from the list</button>
        {/if}
      </span>
      {#if opened === entry.id}
        <ul class="basis-full pl-7 text-sm" data-testid="covers">
          {#each machinesAsked.data ?? [] as on (on.machine_id)}
            <li class="flex flex-wrap gap-x-3 py-0.5">
              <a href="/machines/{on.tag}">{on.tag}</a>
              <span class="muted">{on.client}</span>
              <span class:lookhere={!!on.surveyed_at && !on.kept && !on.exists}>{hereOf(on)}</span>
            </li>
          {/each}
        </ul>
      {/if}
    </li>
  {:else}
    <li class="muted py-2">
      {#if asked.data}The protect list is empty.{:else}<Failed query={asked} />{/if}
    </li>
  {/each}
</ul>
{#if mayChange}
  <form class="noprint mt-3 flex flex-wrap items-end gap-2" onsubmit={add}>
    <label class="field">
      <span>What</span>
      <select class="box" bind:value={fields.kind}>
        {#each KINDS as one (one.kind)}<option value={one.kind}>{one.name}</option>{/each}
      </select>
    </label>
    <label class="field min-w-56 flex-1">
      <span>What to protect</span>
      <input
        class="box"
        bind:value={fields.what}
        required
        maxlength="1000"
        placeholder={KINDS.find((one) => one.kind === fields.kind)?.example}
      />
    </label>
    {#if machine}
      <label class="field">
        <span>For</span>
        <select class="box" bind:value={fields.whom}>
          <option value="">{machine.tag}</option>
          <option value="client">{machine.client_name}</option>
        </select>
      </label>
    {:else}
      <ClientBox
        label="For"
        bind:value={fields.whom}
        first={isOwner ? [{ value: '', label: 'the shop' }] : []}
      />
    {/if}
    <label class="field min-w-40">
      <span>Why (for your colleagues)</span>
      <input class="box" bind:value={fields.note} maxlength="400" />
    </label>
    <button class="act">Add to the list</button>
  </form>
{/if}
<Outcome of={doing} />
{#if machine}
  <form class="noprint mt-3 flex flex-wrap items-end gap-2" onsubmit={test}>
    <label class="field min-w-64 flex-1">
      <span>Is this path protected here?</span>
      <input class="box" bind:value={testPath} required maxlength="8000" />
    </label>
    <button class="act">Ask</button>
    <p class="basis-full" role="status">{tested}</p>
  </form>
{/if}
