<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import { day } from './words';

  /** Parts of a visit, or of the whole shop those that are waited for. */
  let { visit, isOpen = true }: { visit?: number; isOpen?: boolean } = $props();
  const asked = createQuery(() =>
    ask('/api/v2/ordered-parts', { params: { query: visit ? { visit } : {} } })
  );
  let what = $state('');
  let from = $state('');
  let expected = $state('');
  const doing = new Doing();
  const anew = () => refresh('/api/v2/ordered-parts', '/api/v2/records', '/api/v2/visits/{number}');

  async function order(event: SubmitEvent) {
    event.preventDefault();
    const isDone = await doing.try<unknown>(() =>
      api.POST('/api/v2/visits/{number}/parts', {
        params: { path: { number: visit ?? 0 } },
        headers: { 'Idempotency-Key': crypto.randomUUID() },
        body: { item: what, supplier: from, expected: expected || null }
      })
    );
    if (isDone) what = from = expected = '';
    await anew();
  }
  async function set(part: Schema['OrderedPart'], state: Schema['PartState']) {
    await doing.try<unknown>(() =>
      api.POST('/api/v2/ordered-parts/{part}/state', {
        params: { path: { part: part.id } },
        body: { state }
      })
    );
    await anew();
  }
</script>

{#if asked.data}
  <ul class="ruled mt-2" data-testid="parts">
    {#each asked.data as part (part.id)}
      <li class="flex flex-wrap items-center justify-between gap-x-4 py-2">
        <span>
          {part.item}{part.supplier ? `, from ${part.supplier}` : ''}
          {#if !visit}
            for <a class="anchor" href="/visits/{part.visit_id}">{part.machine_tag}</a>
          {/if}
          <span class="muted">
            {part.state === 'ordered'
              ? part.expected
                ? `expected ${day(part.expected)}`
                : 'ordered'
              : part.state}
          </span>{#if part.overdue}<span class="lossy">, overdue</span>{/if}
        </span>
        {#if isOpen && part.state === 'ordered'}
          <span class="noprint flex gap-2">
            <button class="act" disabled={doing.busy} onclick={() => set(part, 'arrived')}
              >Arrived</button
            >
            <button class="plain" disabled={doing.busy} onclick={() => set(part, 'called off')}
              >Cancel</button
            >
          </span>
        {/if}
      </li>
    {:else}<li class="muted py-2">None is on order.</li>{/each}
  </ul>
{:else}<Failed query={asked} />{/if}
{#if visit && isOpen}
  <form class="noprint mt-2 flex flex-wrap items-end gap-3" onsubmit={order} aria-label="Order">
    <label class="field">
      <span>Part</span><input class="box w-56" required maxlength="300" bind:value={what} />
    </label>
    <label class="field">
      <span>From whom</span><input class="box w-44" maxlength="200" bind:value={from} />
    </label>
    <label class="field">
      <span>Expected</span><input class="box" type="date" bind:value={expected} />
    </label>
    <button class="act" disabled={doing.busy}>It is ordered</button>
  </form>
{/if}
<Outcome of={doing} />
