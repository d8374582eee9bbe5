<script lang="ts">
  import Term from '$lib/components/Term.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import When from '$lib/components/When.svelte';
  import { count } from '$lib/words';

  let { visit }: { visit: Schema['Visit'] } = $props();
  const asked = createQuery(() =>
    ask('/api/v2/visits/{number}/sealed-notes', { params: { path: { number: visit.id } } })
  );
  let title = $state('');
  let text = $state('');
  /** What was opened, until the page is left. */
  let opened = $state<Schema['OpenedNote'] | null>(null);
  const doing = new Doing();
  const anew = () => refresh('/api/v2/visits/{number}/sealed-notes');

  async function seal(event: SubmitEvent) {
    event.preventDefault();
    const isDone = await doing.try<unknown>(() =>
      api.POST('/api/v2/visits/{number}/sealed-notes', {
        params: { path: { number: visit.id } },
        headers: { 'Idempotency-Key': crypto.randomUUID() },
        body: { title, text }
      })
    );
    if (isDone) title = text = '';
    await anew();
  }
  async function open(note: Schema['SealedNote']) {
    await doing.try<unknown>(async () => {
      const reply = await api.POST('/api/v2/sealed-notes/{note}/open', {
        params: { path: { note: note.id } }
      });
      opened = reply.data ?? null;
      return reply;
    });
    await anew();
  }
  async function destroy(note: Schema['SealedNote']) {
    await doing.try<unknown>(() =>
      api.DELETE('/api/v2/sealed-notes/{note}', { params: { path: { note: note.id } } })
    );
    opened = null;
    await anew();
  }
</script>

<section class="noprint mt-8" aria-labelledby="sealed">
  <h2 id="sealed"><Term of="sealed note">Sealed notes</Term></h2>
  <p class="muted text-sm">
    What the client left to sign in with. Each reading is written down; it is destroyed at
    hand-over.
  </p>
  {#if asked.data}
    <ul class="ruled mt-2" data-testid="sealed-notes">
      {#each asked.data as note (note.id)}
        <li class="py-2">
          <span class="flex flex-wrap items-center justify-between gap-x-4">
            <span>
              {note.title}
              <span class="muted text-sm">
                sealed by {note.made_by}
                <When at={note.made_at} />{#if note.destroyed_at}, destroyed
                  <When at={note.destroyed_at} />{/if}
              </span>
            </span>
            {#if !note.destroyed_at && !visit.closed_at}
              <span class="flex gap-2">
                <button class="act" disabled={doing.busy} onclick={() => open(note)}>Read it</button
                >
                <button class="plain" disabled={doing.busy} onclick={() => destroy(note)}
                  >Destroy it</button
                >
              </span>
            {/if}
          </span>
          {#if opened?.id === note.id}
            <p class="mt-1 font-mono break-words whitespace-pre-wrap" role="status">
              {opened.text}
            </p>
            <button class="plain" onclick={() => (opened = null)}>Hide it</button>
          {/if}
          {#if note.readings.length}
            <details class="text-sm">
              <summary class="muted">Read {count(note.readings.length, 'time')}</summary>
              {#each note.readings as reading, at (at)}
                <p>{reading.who} <When at={reading.at} /></p>
              {/each}
            </details>
          {/if}
        </li>
      {/each}
    </ul>
  {:else}<Failed query={asked} />{/if}
  {#if !visit.closed_at}
    <form class="mt-2 flex flex-wrap items-end gap-3" onsubmit={seal} aria-label="Seal a note">
      <label class="field">
        <span>What it is</span>
        <input class="box w-56" required maxlength="100" bind:value={title} />
      </label>
      <label class="field">
        <span>What the client left</span>
        <input
          class="box w-56"
          type="password"
          autocomplete="off"
          required
          maxlength="2000"
          bind:value={text}
        />
      </label>
      <button class="act" disabled={doing.busy}>Seal it</button>
    </form>
  {/if}
  <Outcome of={doing} />
</section>
