<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import type { Machine } from '$lib/api/client';
  import { ask } from '$lib/api/queries';
  import StepsDone from './StepsDone.svelte';
  import { shopSteps } from './steps';

  let { ondrawn }: { ondrawn: () => void } = $props();

  const few = { params: { query: { limit: 20 } } };
  const clients = createQuery(() => ask('/api/v2/clients', few));
  const machines = createQuery(() => ask('/api/v2/machines', few));
  const runs = createQuery(() => ask('/api/v2/runs', few));
  const rounds = createQuery(() => ask('/api/v2/rounds', few));
  const known = $derived(
    clients.data && machines.data && runs.data && rounds.data
      ? shopSteps(clients.data.length, machines.data as Machine[], runs.data, rounds.data.length)
      : []
  );
  const answers = [clients, machines, runs, rounds];
  // what is shown stays, also when the last step is done: what is below must not move
  let shows = $state(false);
  $effect(() => {
    if (known.some((step) => !step.done)) shows = true;
    if (answers.every((answer) => !answer.isPending)) ondrawn();
  });
</script>

{#if shows}
  <div class="mt-6"><StepsDone id="first-shop" title="The first five steps" steps={known} /></div>
{/if}
