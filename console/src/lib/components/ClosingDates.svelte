<script lang="ts">
  import Failed from '$lib/components/Failed.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import { api } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { Draft } from '$lib/drafts.svelte';
  import ClientBox from './ClientBox.svelte';
  import Outcome from './Outcome.svelte';
  import { undo } from '$lib/undo.svelte';
  import { today } from '$lib/words';

  let { mayChange }: { mayChange: boolean } = $props();
  const daysAsked = createQuery(() => ask('/api/v2/closing-days'));
  const days = $derived(daysAsked.data ?? []);
  const draft = new Draft('closing-day', { name: '', first: today(), last: today(), client: '' });
  const fields = draft.fields;
  const doing = new Doing();

  const load = () => refresh('/api/v2/closing-days');

  async function add(event: SubmitEvent) {
    event.preventDefault();
    const { name, first, last, client } = fields;
    const body = { name, first, last, client_id: client ? Number(client) : null };
    if (await doing.try(() => api.POST('/api/v2/closing-days', { body }))) {
      draft.reset({ ...fields, name: '' });
      await load();
    }
  }
  async function remove(closing: (typeof days)[number]) {
    const path = { closing_id: closing.id };
    const gone = await doing.try(() =>
      api.DELETE('/api/v2/closing-days/{closing_id}', { params: { path } })
    );
    await load();
    if (!gone) return;
    const { name, first, last, client_id } = closing;
    const body = { name, first, last, client_id };
    undo.offer(
      `${name} is no closing day any more.`,
      () => api.POST('/api/v2/closing-days', { body }),
      load
    );
  }
</script>

<section aria-labelledby="closing">
  <h1 id="closing">Closing days</h1>
  <p class="muted text-sm">Rounds move to the next open day, or leave these out, as each says.</p>
  <ul class="ruled mt-2" data-testid="closing-days">
    {#each days as one (one.id)}
      <li class="flex items-center justify-between gap-2 py-2">
        <span
          >{one.name}
          <span class="muted text-sm"
            >{one.client_name ?? 'the shop'}, {one.first}{one.last === one.first
              ? ''
              : ` to ${one.last}`}</span
          ></span
        >
        {#if mayChange}<button class="act" onclick={() => remove(one)}>Remove</button>{/if}
      </li>
    {:else}
      <li class="muted py-2">
        {#if daysAsked.data}None yet.{:else}<Failed query={daysAsked} />{/if}
      </li>
    {/each}
  </ul>
  {#if mayChange}
    <form class="mt-2 flex flex-wrap items-end gap-2" onsubmit={add}>
      <label class="field"
        ><span>Name</span><input
          class="box w-40"
          bind:value={fields.name}
          required
          maxlength="120"
        /></label
      >
      <label class="field"
        ><span>First day</span><input
          class="box"
          type="date"
          bind:value={fields.first}
          required
        /></label
      >
      <label class="field"
        ><span>Last day</span><input
          class="box"
          type="date"
          bind:value={fields.last}
          min={fields.first}
          required
        /></label
      >
      <ClientBox
        label="Who"
        bind:value={fields.client}
        first={[{ value: '', label: 'the shop' }]}
      />
      <button class="act" disabled={doing.busy}>Close</button>
    </form>
  {/if}
  <Outcome of={doing} />
</section>
