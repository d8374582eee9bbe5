<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Machine } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import Modal from '$lib/components/Modal.svelte';
  import NumberField from '$lib/components/NumberField.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import { useMay } from '$lib/session';
  import { Acting } from './acting.svelte';

  interface Props {
    machine: Machine;
    busy: boolean;
    onstarted: () => void;
  }
  let { machine, busy, onstarted }: Props = $props();
  const QUESTION = 'comes-back-alone';
  const may = useMay();
  const doing = new Acting();
  const answering = new Doing();
  const asked = createQuery(() =>
    ask('/api/v2/answers/{scope}/{subject_id}', {
      params: { path: { scope: 'machine', subject_id: machine.id } }
    })
  );
  const entry = $derived(asked.data?.find(({ question }) => question.key === QUESTION));
  const answer = $derived(entry?.answer?.answer ?? null);
  let open = $state(false);
  let minutes = $state<number | null>(10);
  let word = $state('');

  async function say(answer: 'yes' | 'no') {
    const path = { scope: 'machine' as const, subject_id: machine.id, question: QUESTION };
    await answering.try(() =>
      api.PUT('/api/v2/answers/{scope}/{subject_id}/{question}', {
        params: { path },
        body: { answer, comment: '' }
      })
    );
    await refresh('/api/v2/answers/{scope}/{subject_id}');
  }
  async function restart() {
    const act = {
      action: 'restart',
      warn_minutes: minutes ?? 10,
      postponements: 2,
      postpone_minutes: 15
    } as const;
    if (await doing.act(machine.id, act, word.trim())) {
      open = false;
      onstarted();
    }
  }
  async function clearNames() {
    if (await doing.act(machine.id, { action: 'clear-name-cache' })) onstarted();
  }
</script>

{#if may.work}
  <div class="noprint mt-3 flex flex-wrap gap-2">
    <button class="act" disabled={busy} onclick={() => (open = true)}>Restart it…</button>
    <button class="act" disabled={busy || doing.busy} onclick={clearNames}
      >Clear its name cache</button
    >
  </div>
  {#if !open}<Outcome of={doing} />{/if}
  <Modal bind:open title="Restart {machine.tag}">
    {#if entry}
      <fieldset class="flex flex-wrap items-center gap-2">
        <legend class="mb-1">{entry.question.text}</legend>
        {#each ['yes', 'no'] as const as said (said)}
          <button
            class="act"
            aria-pressed={answer === said}
            disabled={answering.busy}
            onclick={() => say(said)}>{said === 'yes' ? 'Yes' : 'No'}</button
          >
        {/each}
        {#if !answer}<span class="lookhere">Ask first</span>{/if}
      </fieldset>
      <Outcome of={answering} />
    {/if}
    <p class="muted mt-3 text-sm">
      Everybody at it is warned and can put it off twice. What must not end, such as a disc that is
      written, is waited for.
    </p>
    <div class="mt-3 grid gap-3 sm:grid-cols-2">
      <NumberField
        label="Warn so many minutes before"
        bind:value={minutes}
        placeholder=""
        max={120}
      />
      {#if answer === 'no'}
        <label class="field">
          <span>Who is at it</span>
          <input class="box" maxlength="400" bind:value={word} />
        </label>
      {/if}
    </div>
    <Outcome of={doing} />
    <div class="mt-4 flex flex-wrap gap-2">
      <button
        class="act main"
        disabled={doing.busy || !answer || minutes === null || (answer === 'no' && !word.trim())}
        onclick={restart}>Restart it</button
      >
      <button class="act" onclick={() => (open = false)}>Not now</button>
    </div>
  </Modal>
{/if}
