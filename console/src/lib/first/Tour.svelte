<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import { useMe } from '$lib/session';
  import StepsDone from './StepsDone.svelte';
  import { tourSteps } from './steps';

  let { onclose, ondrawn }: { onclose: () => void; ondrawn: () => void } = $props();
  const READ = 'phylax-tour-trend';

  const me = useMe();
  const runsOf = (machine: string) =>
    ask('/api/v2/runs', { params: { query: { machine, limit: 50 } } });
  const laptop = createQuery(() => runsOf('oakes-laptop'));
  const server = createQuery(() => runsOf('choir-server'));
  const kiosk = createQuery(() =>
    ask('/api/v2/machines/{machine}', { params: { path: { machine: 'museum-kiosk' } } })
  );
  const rounds = createQuery(() => ask('/api/v2/rounds', { params: { query: { limit: 500 } } }));
  const reports = createQuery(() => ask('/api/v2/reports', { params: { query: { limit: 50 } } }));
  let readTrend = $state(localStorage.getItem(READ) === 'yes');
  const steps = $derived(
    laptop.data && server.data && rounds.data && reports.data && me.data
      ? tourSteps({
          laptop: laptop.data,
          server: server.data,
          rounds: rounds.data,
          kiosk: kiosk.data?.id,
          reports: reports.data,
          me: me.data.name,
          readTrend,
          opensTrend: () => {
            readTrend = true;
            localStorage.setItem(READ, 'yes');
          }
        })
      : []
  );
  const answers = [laptop, server, kiosk, rounds, reports];
  $effect(() => {
    if (answers.every((answer) => !answer.isPending)) ondrawn();
  });
</script>

{#if steps.length}
  <div class="mt-6"><StepsDone id="tour" title="Six things to try here" {steps} {onclose} /></div>
{/if}
