<script lang="ts">
  import { api, inWords, type Run } from '$lib/api/client';
  import { useCategoryNames } from '$lib/categories.svelte';
  import { useMay } from '$lib/session';
  import { inGroups, count, size, stretch } from '$lib/words';
  import CircleStop from '@lucide/svelte/icons/circle-stop';
  import { Progress } from '@skeletonlabs/skeleton-svelte';

  let { run, brief = false }: { run: Run; brief?: boolean } = $props();
  const nameOf = useCategoryNames();
  const may = useMay();
  const WORK: Record<string, string> = {
    'file-system': 'file systems',
    'disk-health': 'the health of the disks',
    malware: 'files for malware',
    updates: 'what updates are missing',
    programs: 'programs',
    drivers: 'drivers',
    fragmentation: 'fragmentation',
    'system-files': 'files of the system',
    condition: 'its condition',
    hardware: 'what is built in',
    'repair-file-system': 'a repair at the next start',
    'arrange-disks': 'disks',
    'install-updates': 'updates',
    'try-removal': 'what would be removed with a program',
    'remove-program': 'a program that goes',
    'clear-name-cache': 'the name cache',
    restart: 'a restart'
  };
  let problem = $state('');
  let asked = $state(false);

  const step = $derived(
    {
      look: 'Surveying',
      clean: 'Cleaning',
      'second look': 'Surveying again',
      'further pass': 'Cleaning once more',
      'put back': 'Putting back',
      'let go': 'Deleting',
      check: 'Checking',
      act: 'Working on',
      wait: 'Waiting for'
    }[run.progress?.step ?? 'look']
  );
  const of = $derived(run.progress?.total_items ?? null);
  const value = $derived(
    of && run.progress ? Math.min(100, (100 * run.progress.items) / of) : null
  );
  const words = $derived.by(() => {
    if (run.awaits_person) return 'Next is a step by hand.';
    if (run.state === 'waiting' || !run.at_work)
      return `${run.machine_tag} is offline; this starts when it comes online.`;
    if (!run.progress) return 'The machine has started it.';
    const { items, items_per_second: rate, seconds_left: left } = run.progress;
    const isLong = ['check', 'act', 'wait'].includes(run.progress.step);
    if (isLong)
      return [
        `${step} ${WORK[run.progress.category] ?? run.progress.category}`,
        ...(of ? [`${inGroups(items)} of ${inGroups(of)}`] : []),
        ...(left === null || left === undefined ? [] : [`about ${stretch(left)} left`])
      ].join(', ');
    return [
      `${step} ${nameOf(run.progress.category)}: ${count(items, 'item')}${of ? ` of about ${inGroups(of)}` : ''}`,
      size(run.progress.size),
      ...(rate ? [`${count(Math.round(rate), 'item')} a second`] : []),
      ...(left === null || left === undefined ? [] : [`about ${stretch(left)} left`])
    ].join(', ');
  });

  async function callOff() {
    asked = true;
    const { error } = await api.POST('/api/v2/runs/{run_id}/call-off', {
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
    {#if !brief && may.work}
      <button class="act" onclick={callOff} disabled={asked}>
        <CircleStop aria-hidden="true" />{asked ? 'Stopping…' : 'Cancel run'}
      </button>
    {/if}
  </div>
  {#if problem}<p class="lossy" role="alert">{problem}</p>{/if}
</div>
