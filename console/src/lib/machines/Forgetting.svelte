<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Client } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Modal from '$lib/components/Modal.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import When from '$lib/components/When.svelte';
  import { count } from '$lib/words';

  /** A client who left is forgotten for good; what that means is said before. The owner's. */
  let { client }: { client: Client } = $props();
  let open = $state(false);
  let why = $state('');
  let until = $state('');
  let words = $state('');
  let withBackups = $state(false);
  const doing = new Doing();
  const path = $derived({ params: { path: { client_id: client.id } } });
  const asked = createQuery(() => ({
    ...ask('/api/v2/clients/{client_id}/forgetting', path),
    refetchInterval: (query: { state: { data?: { already?: { state: string } | null } } }) =>
      ['waiting', 'under way'].includes(query.state.data?.already?.state ?? '') ? 1000 : false
  }));
  const now = $derived(asked.data?.already ?? null);
  const load = () =>
    refresh(
      '/api/v2/clients/{client_id}/forgetting',
      '/api/v2/clients/{client_id}',
      '/api/v2/clients'
    );

  async function forget(event: SubmitEvent) {
    event.preventDefault();
    const headers = { 'If-Match': `"${client.version}"` };
    const others = words.split(',').map((word) => word.trim());
    const body = {
      why,
      postponed_until: until || null,
      with_backups: withBackups,
      words: others.filter(Boolean)
    };
    const isDone = await doing.try<unknown>(() =>
      api.POST('/api/v2/clients/{client_id}/forgetting', { ...path, headers, body })
    );
    if (isDone) open = false;
    await load();
  }
  async function callOff() {
    await doing.try<unknown>(() => api.DELETE('/api/v2/clients/{client_id}/forgetting', path));
    await load();
  }
</script>

{#if asked.data}
  {#if now?.state === 'postponed' && now.postponed_until}
    <p role="status">
      To be forgotten on <When at={now.postponed_until} />, by itself: {now.why}
      <button class="act ml-2" disabled={doing.busy} onclick={callOff}>Not after all</button>
    </p>
  {:else if now && now.state !== 'done'}
    <p role="status">
      Being forgotten{now.waits_for
        ? `; it waits for ${now.waits_for}, and goes on by itself`
        : '…'}
    </p>
  {:else if now?.ended_at}
    <p role="status">
      Forgotten <When at={now.ended_at} />: {count(now.entries ?? 0, 'entry')} of the record without words.
    </p>
  {:else}
    <button class="act" onclick={() => (open = true)}>Forget {client.name}</button>
  {/if}
  {#if !open}<Outcome of={doing} />{/if}
  <Modal bind:open title="Forget {client.name}, for good">
    <ul class="list-disc space-y-1 pl-5">
      {#each asked.data.in_words ?? [] as sentence (sentence)}<li>{sentence}</li>{/each}
    </ul>
    <form class="mt-4 space-y-3" onsubmit={forget}>
      <label class="field">
        <span>Why (gone as well at the end)</span>
        <input class="box w-full" bind:value={why} maxlength="400" required={until !== ''} />
      </label>
      <label class="field">
        <span>Not before (an open claim, a span that the law sets)</span>
        <input class="box" type="date" bind:value={until} />
      </label>
      <label class="field">
        <span>What else names them, as a surname or a nickname; commas between</span>
        <input class="box w-full" bind:value={words} maxlength="400" />
      </label>
      {#if asked.data.backups}
        <label class="flex items-center gap-2">
          <input type="checkbox" class="checkbox" bind:checked={withBackups} />
          Delete {count(asked.data.backups, 'backup')} made before, too; a new one is made
        </label>
      {/if}
      <button class="act main" disabled={doing.busy || !asked.data.retired}>
        {until ? 'Forget them then' : 'Forget them now'}
      </button>
    </form>
    <Outcome of={doing} />
  </Modal>
{:else}<Failed query={asked} />{/if}
