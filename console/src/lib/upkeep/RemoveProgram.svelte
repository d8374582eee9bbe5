<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, type Machine, type Schema } from '$lib/api/client';
  import { ask } from '$lib/api/queries';
  import { startRun } from '$lib/api/runs';
  import Modal from '$lib/components/Modal.svelte';
  import NumberField from '$lib/components/NumberField.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import { count, size } from '$lib/words';
  import { Acting } from './acting.svelte';

  interface Props {
    machine: Machine;
    program: Schema['InstalledProgram'];
    onstarted: () => void;
    onclosed: () => void;
  }
  let { machine, program, onstarted, onclosed }: Props = $props();
  let open = $state(true);
  $effect(() => {
    if (!open) untrack(onclosed);
  });
  const doing = new Acting();
  let runId = $state(0);
  let days = $state<number | null>(null);
  let word = $state('');
  let forGood = $state(false);

  // what would be removed is found out by the machine itself before anybody says yes
  $effect(() => {
    const action = { action: 'try-removal', program: program.key, version: program.version ?? '' };
    untrack(() => void tryIt(action as Schema['TryRemoval']));
  });
  async function tryIt(act: Schema['TryRemoval']) {
    let made: number | undefined;
    const went = await doing.try(async () => {
      const reply = await startRun({ machine_id: machine.id, work: 'act', action: act });
      made = reply.data?.id;
      return reply;
    });
    if (went && made) runId = made;
  }
  const runAsked = createQuery(() => ({
    ...ask('/api/v2/runs/{run_id}', { params: { path: { run_id: runId } } }),
    enabled: runId > 0
  }));
  const ended = $derived(
    ['done', 'partly', 'failed', 'called off'].includes(runAsked.data?.state ?? '')
  );
  const actedAsked = createQuery(() => ({
    ...ask('/api/v2/runs/{run_id}/acted', { params: { path: { run_id: runId } } }),
    enabled: runId > 0 && ended
  }));
  const tried = $derived(actedAsked.data?.[0]?.tried ?? null);

  async function remove() {
    if (!tried || days === null) return;
    const action = {
      action: 'remove-program',
      program: program.key,
      version: program.version ?? '',
      along: tried.along ?? [],
      not_reinstallable: forGood,
      backup_days: days
    } as const;
    if (await doing.act(machine.id, action, word.trim())) {
      open = false;
      onstarted();
    }
  }
  async function giveUp() {
    if (runId && !ended)
      await api.POST('/api/v2/runs/{run_id}/call-off', { params: { path: { run_id: runId } } });
    open = false;
  }
</script>

<Modal bind:open title="Remove {program.name} {program.version}">
  <Outcome of={doing} />
  {#if !tried && !(ended && actedAsked.data)}
    <p role="status">
      {machine.tag} is asked what would be removed with it. Nothing is done yet.
    </p>
    <button class="act mt-4" onclick={giveUp}>Keep it</button>
  {:else if !tried || tried.refused}
    <p class="lookhere">It is not removed: {tried?.refused || runAsked.data?.reason}.</p>
    <button class="act mt-4" onclick={giveUp}>Keep it</button>
  {:else}
    <p>
      {#if tried.along?.length}
        With it {tried.along.length === 1 ? 'goes' : 'go'}
        {count(tried.along.length, 'other program')}:
        {tried.along.map((other) => `${other.name} ${other.version}`).join(', ')}.
      {:else}Nothing else goes with it.{/if}
      {tried.frees ? `${size(tried.frees)} come free.` : ''}
    </p>
    {#if !tried.can_come_back}
      <label class="lossy mt-3 flex items-baseline gap-2">
        <input type="checkbox" bind:checked={forGood} />
        <span>This version cannot be had again. Remove it all the same.</span>
      </label>
    {/if}
    <div class="mt-3 grid gap-3 sm:grid-cols-2">
      <NumberField
        label="Days since the last backup"
        bind:value={days}
        placeholder=""
        max={36500}
      />
      <label class="field">
        <span>Said to it, for the record</span>
        <input class="box" maxlength="400" bind:value={word} />
      </label>
    </div>
    <div class="mt-4 flex flex-wrap gap-2">
      <button
        class="act loss"
        disabled={doing.busy || days === null || (!tried.can_come_back && !forGood)}
        onclick={remove}>Remove it</button
      >
      <button class="act" onclick={giveUp}>Keep it</button>
    </div>
  {/if}
</Modal>
