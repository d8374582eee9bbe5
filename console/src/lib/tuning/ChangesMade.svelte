<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import type { Machine } from '$lib/api/client';
  import { startRun } from '$lib/api/runs';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import When from '$lib/components/When.svelte';
  import { useMay } from '$lib/session';
  import StartsDrawn from './StartsDrawn.svelte';
  import { trialInWords } from './trial';

  interface Props {
    machine: Machine;
    busy: boolean;
    onstarted: () => void;
  }
  let { machine, busy, onstarted }: Props = $props();
  const may = useMay();
  const doing = new Doing();
  const asked = createQuery(() =>
    ask('/api/v2/machines/{machine}/changes', { params: { path: { machine: machine.tag } } })
  );
  const trialsAsked = createQuery(() =>
    ask('/api/v2/machines/{machine}/trials', { params: { path: { machine: machine.tag } } })
  );
  const trials = $derived(new Map((trialsAsked.data ?? []).map((trial) => [trial.run_id, trial])));
  const changes = $derived(asked.data ?? []);
  /** What was changed together, newest first. */
  const actions = $derived(
    [...new Set(changes.map((change) => change.run_id))].map(
      (run) => [run, changes.filter((change) => change.run_id === run)] as const
    )
  );
  const standing = $derived(changes.filter((change) => change.state === 'made'));

  const ENDS = {
    'put back': 'put back',
    'altered since': 'altered by somebody else since',
    'undone by the machine': 'undone by the machine: it could not reach the service with it'
  };

  async function putBack(numbers: number[]) {
    const call = () =>
      startRun({ machine_id: machine.id, work: 'put settings back', changes: numbers });
    if (await doing.try(call)) onstarted();
  }
</script>

{#if asked.error}<Failed query={asked} />{/if}
{#if changes.length}
  <div class="mt-6 flex flex-wrap items-center justify-between gap-2">
    <h3 class="font-semibold">What was changed <span class="muted">{changes.length}</span></h3>
    {#if may.work && standing.length > 1}
      <button
        class="act noprint"
        disabled={busy || doing.busy}
        onclick={() => putBack(standing.map((change) => change.number))}>Put all back</button
      >
    {/if}
  </div>
  <Outcome of={doing} />
  <div class="ruled mt-1" data-testid="changes">
    {#each actions as [run, together] (run)}
      {@const trial = trials.get(run)}
      <div class="py-2">
        <ul>
          {#each together as change (change.number)}
            <li class="flex flex-wrap items-center justify-between gap-x-4 gap-y-1 py-1">
              <span>
                <strong>{change.name}</strong>{change.person ? ` of ${change.person}` : ''}: {change.before},
                then {change.after}
                <span class="muted block text-sm">
                  {change.who}, <When at={change.at} />{change.comment ? `: ${change.comment}` : ''}
                </span>
                {#if change.drifted_at && change.state === 'made'}
                  <span class="lookhere block text-sm">
                    Somebody altered it since: {change.drifted_to
                      ? `it ${change.setting === 'startup-programs' ? 'runs' : 'is'} ${change.drifted_to}`
                      : 'it is not there any more'}, seen <When at={change.drifted_at} />
                  </span>
                {/if}
              </span>
              {#if change.state === 'made' && may.work}
                <button
                  class="act noprint"
                  disabled={busy || doing.busy}
                  onclick={() => putBack([change.number])}
                  aria-label="Put back {change.name}">Put back</button
                >
              {:else if change.state !== 'made'}
                <span class="muted text-sm">
                  {ENDS[change.state]}{change.state === 'put back' ? ` by ${change.ended_by}` : ''},
                  <When at={change.ended_at} />
                </span>
              {/if}
            </li>
          {/each}
        </ul>
        {#if trial}
          <p data-testid="trial" class:lookhere={trial.judged.outcome === 'made it worse'}>
            {trialInWords(trial)}
          </p>
          {#if trial.before.length || trial.after.length}<StartsDrawn {trial} />{/if}
        {/if}
      </div>
    {/each}
  </div>
{/if}
