<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import Outcome from '$lib/components/Outcome.svelte';

  let { visit }: { visit: Schema['Visit'] } = $props();
  const clientAsked = createQuery(() =>
    ask('/api/v2/clients/{client_id}', { params: { path: { client_id: visit.client_id } } })
  );
  let typed = $state<string | null>(null);
  const mail = $derived(typed ?? clientAsked.data?.mail ?? '');
  let word = $state('');
  const doing = new Doing();

  async function ready(byMail: boolean) {
    await doing.try<unknown>(() =>
      api.POST('/api/v2/visits/{number}/ready', {
        params: { path: { number: visit.id } },
        headers: { 'If-Match': `"${visit.version}"` },
        body: { mail: byMail ? mail : null, comment: word }
      })
    );
    await refresh('/api/v2/visits/{number}', '/api/v2/visits', '/api/v2/records');
  }
</script>

<div class="mt-2 flex max-w-4xl flex-wrap items-end gap-3">
  <label class="field grow">
    <span>What the mail says besides, such as what it costs</span>
    <input class="box w-full" maxlength="1000" bind:value={word} />
  </label>
  <label class="field">
    <span>Mail to</span>
    <input
      class="box w-64"
      type="email"
      value={mail}
      oninput={(event) => (typed = event.currentTarget.value)}
    />
  </label>
  <button class="act main" disabled={doing.busy || !mail} onclick={() => ready(true)}
    >Ready: send the mail</button
  >
  <button class="act" disabled={doing.busy} onclick={() => ready(false)}
    >Ready: we tell them ourselves</button
  >
</div>
<p class="muted mt-1 text-sm">With the mail they are reminded after 7, 14 and 30 days.</p>
<Outcome of={doing} />
