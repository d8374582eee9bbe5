<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import { api, inWords, type Schema } from '$lib/api/client';
  import Backups from '$lib/components/Backups.svelte';
  import Failed from '$lib/components/Failed.svelte';
  import KeepingSpans from '$lib/components/KeepingSpans.svelte';
  import TakeOut from '$lib/components/TakeOut.svelte';
  import { useMay } from '$lib/session';
  import { count } from '$lib/words';

  const asked = createQuery(() => ask('/api/v2/shop'));
  const may = useMay();
  let chain = $state<Schema['ChainCheck'] | null>(null);
  let problem = $state('');
  let checking = $state(false);

  async function verify() {
    checking = true;
    const { data, error } = await api.GET('/api/v2/records/verification');
    chain = data ?? null;
    problem = error ? inWords(error) : '';
    checking = false;
  }
</script>

<svelte:head><title>Shop – Phylax</title></svelte:head>

{#if asked.data}
  <h1>{asked.data.name}</h1>
  <dl class="mt-4 grid max-w-xl grid-cols-[12rem_1fr] gap-y-2">
    <dt class="muted">time zone</dt>
    <dd>{asked.data.zone}</dd>
    <dt class="muted">nearly full from</dt>
    <dd>{asked.data.threshold_percent} % used</dd>
    <dt class="muted">security updates</dt>
    <dd>are told of when they are missing for {count(asked.data.security_days ?? 14, 'day')}</dd>
  </dl>
  <section class="mt-8">
    <h2>Records</h2>
    <p class="mt-2">
      Each entry carries the digest of the one before.
      <button class="act ml-2" disabled={checking} onclick={verify}>
        {checking ? 'Verifying…' : 'Verify the chain'}
      </button>
    </p>
    {#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
    {#if chain}
      <p role="status" class="mt-2" class:lossy={!chain.intact}>
        {chain.intact
          ? `${count(chain.entries, 'entry')}, each fits the one before it.` +
            (chain.erased ? ` Of ${count(chain.erased, 'entry')} words were erased.` : '')
          : `Broken at entry ${chain.broken_at}: ${chain.why}.`}
      </p>
    {/if}
  </section>
  <Backups />
  {#if may.own}<TakeOut />{/if}
  <KeepingSpans mayChange={may.own} />
{:else}
  <Failed query={asked} />
{/if}
