<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import { api, inWords, type Schema } from '$lib/api/client';
  import When from '$lib/components/When.svelte';
  import { count, size } from '$lib/words';
  import { SvelteSet } from 'svelte/reactivity';

  let { mayChange = true }: { mayChange?: boolean } = $props();
  type Waiting = Schema['WaitingListing'];
  const asked = createQuery(() => ask('/api/v2/waiting-listings'));
  const waiting = $derived<Waiting[] | null>(asked.data ?? null);
  let word = $state('');
  let problem = $state('');
  let told = $state('');
  const chosen = new SvelteSet<string>();
  const key = (one: Waiting) => `${one.survey_id} ${one.category}`;
  const picked = $derived((waiting ?? []).filter((one) => chosen.has(key(one))));
  const sum = $derived(picked.reduce((all, one) => all + one.size, 0));

  async function agree() {
    const { data, error } = await api.POST('/api/v2/waiting-listings/agree', {
      headers: { 'Idempotency-Key': crypto.randomUUID() },
      body: {
        listings: picked.map((one) => ({ survey_id: one.survey_id, category: one.category })),
        via: 'console',
        comment: word
      }
    });
    problem = error ? inWords(error) : '';
    if (data) {
      told = `Agreed. ${count(data.runs.length, 'machine')} will be cleaned of exactly that.`;
      chosen.clear();
      word = '';
    }
    await refresh('/api/v2/waiting-listings');
  }
</script>

{#if problem}<p class="lossy mt-4" role="alert">{problem}</p>{/if}
{#if !waiting}<Failed query={asked} />{/if}
{#if told}<p class="mt-4" role="status">{told}</p>{/if}
{#if waiting && !waiting.length}
  <p class="mt-6">Nothing needs approval.</p>
{:else if waiting}
  <ul class="ruled mt-4" data-testid="waiting-listings">
    {#each waiting as one (key(one))}
      <li class="flex flex-wrap items-baseline gap-x-4 py-2">
        <label class="flex items-baseline gap-2">
          <input
            type="checkbox"
            disabled={!mayChange}
            checked={chosen.has(key(one))}
            onchange={(e) =>
              e.currentTarget.checked ? chosen.add(key(one)) : chosen.delete(key(one))}
          />
          <span class="font-semibold">{one.machine_tag}</span>
          <span>{one.name}: {count(one.items, 'item')}, {size(one.size)}</span>
        </label>
        <span class="muted text-sm">{one.client_name}, looked at <When at={one.surveyed_at} /></span
        >
        <a class="anchor ml-auto text-sm" href="/machines/{one.machine_tag}#cleanup"
          >Read the listing</a
        >
      </li>
    {/each}
  </ul>
  {#if mayChange}
    <div class="mt-4 flex flex-wrap items-end gap-3">
      <label class="field">
        <span>The client's word</span>
        <input class="box w-72" bind:value={word} maxlength="400" placeholder="asked by phone" />
      </label>
      <button class="act main" disabled={!picked.length} onclick={agree}>
        Agree to {count(picked.length, 'listing')}, {size(sum)}
      </button>
    </div>
    <p class="muted mt-1 text-sm">
      What goes is exactly what is listed. By the shop's rule it is held first, where it says so.
    </p>
  {/if}
{/if}
