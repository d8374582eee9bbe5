<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import type { Machine } from '$lib/api/client';
  import { ask } from '$lib/api/queries';
  import { startRun } from '$lib/api/runs';
  import Failed from '$lib/components/Failed.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import When from '$lib/components/When.svelte';
  import { useMay } from '$lib/session';
  import { count, size } from '$lib/words';
  import { Acting } from './acting.svelte';

  interface Props {
    machine: Machine;
    busy: boolean;
    onstarted: () => void;
  }
  let { machine, busy, onstarted }: Props = $props();
  const may = useMay();
  const doing = new Acting();
  const path = $derived({ params: { path: { machine: machine.tag } } });
  const asked = createQuery(() => ask('/api/v2/machines/{machine}/updates', path));
  const listsAsked = createQuery(() => ask('/api/v2/machines/{machine}/inventories', path));
  const list = $derived(listsAsked.data?.find((one) => one.kind === 'updates'));
  const missing = $derived(asked.data ?? []);
  const ready = $derived(missing.filter(({ update }) => !update.held_back));
  const security = $derived(ready.filter(({ update }) => update.security));

  async function install(onlySecurity: boolean) {
    const names: string[] = [];
    const act = { action: 'install-updates', only_security: onlySecurity, names } as const;
    if (await doing.act(machine.id, act)) onstarted();
  }
  async function look() {
    const call = () =>
      startRun({ machine_id: machine.id, work: 'check', checks: ['updates', 'programs'] });
    if (await doing.try(call)) onstarted();
  }
</script>

{#if !asked.data}<Failed query={asked} />{:else}
  {#if !list}
    <p class="mt-2">Nobody has looked for updates here yet.</p>
  {:else if list.unread}
    <p class="lookhere mt-2">The newest survey failed: {list.unread}. What is below is older.</p>
  {/if}
  {#if list && missing.length === 0}
    <p class="mt-2">Nothing is missing, by the survey of <When at={list.taken_at} />.</p>
  {/if}
  <ul class="ruled mt-1" data-testid="updates">
    {#each missing as { update, since } (update.name)}
      <li class="py-2">
        <strong>{update.name}</strong>
        {update.now}, {update.version} is out{update.size ? `, ${size(update.size)}` : ''}
        {#if update.security}<span class="lookhere">for security</span>{/if}
        <span class="muted block text-sm">
          {update.origin ? `From ${update.origin}. ` : ''}Missing since <When
            at={since}
          />{update.restart ? '; takes effect after a restart' : ''}{update.held_back
            ? `; left for a person: ${update.held_back}`
            : ''}
        </span>
      </li>
    {/each}
  </ul>
  {#if list && 'restart_waits' in list && list.restart_waits}
    <p class="lookhere mt-2">A restart is due: {list.restart_waits}.</p>
  {/if}
  {#if may.work}
    <div class="noprint mt-3 flex flex-wrap gap-2">
      <button class="act" disabled={busy || doing.busy} onclick={look}>Look for updates</button>
      {#if ready.length}
        <button class="act" disabled={busy || doing.busy} onclick={() => install(false)}
          >Install {count(ready.length, 'update')}</button
        >
      {/if}
      {#if security.length && security.length < ready.length}
        <button class="act" disabled={busy || doing.busy} onclick={() => install(true)}
          >Only what is for security</button
        >
      {/if}
    </div>
    {#if ready.length}
      <p class="muted mt-1 text-sm">
        Nothing is removed. Programs that are open may ask to be started again.
      </p>
    {/if}
  {/if}
  <Outcome of={doing} />
{/if}
