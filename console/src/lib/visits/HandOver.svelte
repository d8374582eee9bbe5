<script lang="ts">
  import { api, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { refresh } from '$lib/api/queries';
  import Outcome from '$lib/components/Outcome.svelte';

  let { visit }: { visit: Schema['Visit'] } = $props();
  let word = $state('');
  let guaranteed = $state('');
  const ending = new Doing();

  async function end(outcome: Schema['HandOver']['outcome']) {
    await ending.try<unknown>(() =>
      api.POST('/api/v2/visits/{number}/hand-over', {
        params: { path: { number: visit.id } },
        headers: { 'If-Match': `"${visit.version}"` },
        body: { outcome, comment: word, guaranteed_until: guaranteed || null }
      })
    );
    await refresh(
      '/api/v2/visits/{number}',
      '/api/v2/visits/{number}/sealed-notes',
      '/api/v2/visits',
      '/api/v2/records'
    );
  }
</script>

<div class="mt-2 flex max-w-4xl flex-wrap items-end gap-3">
  <label class="field grow">
    <span>What the client is told</span>
    <input class="box w-full" bind:value={word} maxlength="2000" />
  </label>
  <label class="field">
    <span>Guaranteed until</span><input class="box" type="date" bind:value={guaranteed} />
  </label>
  <button class="act main" disabled={ending.busy} onclick={() => end('mended')}
    >Hand over, mended</button
  >
  <button class="act" disabled={ending.busy} onclick={() => end('not mended')}
    >Hand over, not mended</button
  >
</div>
<Outcome of={ending} />
