<script lang="ts">
  import { api, inWords, type Run } from '$lib/api/client';
  import { count, size } from '$lib/words';
  import CircleStop from '@lucide/svelte/icons/circle-stop';
  import { Progress } from '@skeletonlabs/skeleton-svelte';

  let { run, brief = false }: { run: Run; brief?: boolean } = $props();
  let problem = $state('');
  let asked = $state(false);

  const step = $derived(
    { look: 'Looking at', clean: 'Cleaning', 'second look': 'Looking again at' }[
      run.progress?.step ?? 'look'
    ]
  );
  const of = $derived(run.progress?.step === 'clean' ? run.expected : null);
  const value = $derived(
    of && of.count && run.progress ? Math.min(100, (100 * run.progress.items) / of.count) : null
  );
  const words = $derived.by(() => {
    if (run.state === 'waiting') return `Waits for ${run.machine_tag} to call.`;
    if (!run.progress) return 'The machine has taken it up.';
    const done = `${count(run.progress.items, 'item')}, ${size(run.progress.size)}`;
    return `${step} ${run.progress.category}: ${done}${of ? ` of ${count(of.count, 'item')}` : ''}`;
  });

  async function callOff() {
    asked = true;
    const { error } = await api.POST('/api/v1/runs/{run_id}/call-off', {
      params: { path: { run_id: run.id } }
    });
    if (error) {
      problem = inWords(error);
      asked = false;
    }
  }
</script>

<div class="space-y-2" data-testid="progress">
  <Progress {value}>
    <Progress.Track class="h-2 bg-[var(--part-free)]"
      ><Progress.Range class="bg-[var(--part-goes)]" /></Progress.Track
    >
  </Progress>
  <div class="flex flex-wrap items-center justify-between gap-2">
    <p role="status" aria-live="polite" class={brief ? 'text-sm' : ''}>{words}</p>
    {#if !brief}
      <button class="act" onclick={callOff} disabled={asked}>
        <CircleStop aria-hidden="true" />{asked ? 'Stopping…' : 'Call off'}
      </button>
    {/if}
  </div>
  {#if problem}<p class="lossy">{problem}</p>{/if}
</div>
