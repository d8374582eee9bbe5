<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import { untrack } from 'svelte';
  import { goto } from '$app/navigation';
  import { api, inWords } from '$lib/api/client';
  import Modal from '$lib/components/Modal.svelte';
  import VolumeFields from '$lib/machines/VolumeFields.svelte';
  import { choiceOf } from '$lib/machines/volumes';
  import { useCategoryNames } from '$lib/categories.svelte';
  import { count } from '$lib/words';
  import ListChecks from '@lucide/svelte/icons/list-checks';

  interface Props {
    machineIds: number[];
    /** Go to the run when it was made. */
    goThere?: boolean;
  }
  let { machineIds, goThere = false }: Props = $props();
  let open = $state(false);
  const nameOf = useCategoryNames();
  const asked = createQuery(() => ({ ...ask('/api/v2/routines'), enabled: open }));
  const routines = $derived(asked.data ?? []);
  let chosen = $state('');
  let onBench = $state(false);
  let way = $state<'all' | 'only' | 'but'>('all');
  let volumeNames = $state('');
  let problem = $state('');
  let told = $state('');
  const routine = $derived(routines.find((one) => String(one.id) === chosen));

  function begin() {
    open = true;
    told = '';
  }
  $effect(() => {
    const first = routines[0];
    if (first) untrack(() => (chosen ||= String(first.id)));
  });
  async function start() {
    const { data, error } = await api.POST('/api/v2/routines/{routine_id}/runs', {
      params: { path: { routine_id: Number(chosen) } },
      headers: { 'Idempotency-Key': crypto.randomUUID() },
      body: {
        machine_ids: machineIds,
        on_bench: onBench,
        volumes: choiceOf(way, volumeNames)
      }
    });
    problem = error ? inWords(error) : '';
    if (!data) return;
    open = false;
    told = `${count(data.runs.length, 'run')} made.`;
    if (goThere && data.runs[0]) await goto(`/runs/${data.runs[0].id}`);
  }
</script>

<button class="act" onclick={begin}><ListChecks aria-hidden="true" />Run a routine</button>
{#if told}<span role="status">{told}</span>{/if}
<Modal bind:open title="Run a routine on {count(machineIds.length, 'machine')}">
  <label class="field">
    <span>Routine</span>
    <select class="box" bind:value={chosen}>
      {#each routines as one (one.id)}<option value={String(one.id)}>{one.name}</option>{/each}
    </select>
  </label>
  {#if routine}
    <p class="muted mt-2 text-sm">{routine.note}</p>
    <ol class="mt-2 list-decimal pl-6 text-sm">
      {#each routine.steps as step, n (n)}
        <li>
          {step.title || step.kind}{step.categories.length
            ? `: ${step.categories.map(nameOf).join(', ')}`
            : ''}
        </li>
      {/each}
    </ol>
  {/if}
  <label class="mt-3 flex items-baseline gap-2">
    <input type="checkbox" bind:checked={onBench} />
    on the bench: rounds wait until its list is through
  </label>
  <div class="mt-3"><VolumeFields bind:way bind:names={volumeNames} /></div>
  <p class="muted mt-2 text-sm">
    The rules in force on each machine apply. What needs a consent and has none is only listed.
  </p>
  {#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
  <div class="mt-4 flex gap-2">
    <button class="act main" disabled={!routine} onclick={start}>Run it</button>
    <button class="act" onclick={() => (open = false)}>Cancel</button>
  </div>
</Modal>
