<script lang="ts">
  import { api, inWords, type RunDetail, type Schema } from '$lib/api/client';
  import { useCategoryNames } from '$lib/categories.svelte';
  import { Draft } from '$lib/drafts.svelte';
  import { stretch } from '$lib/words';
  import { untrack } from 'svelte';
  import When from '$lib/components/When.svelte';
  import Bot from '@lucide/svelte/icons/bot';
  import Hand from '@lucide/svelte/icons/hand';

  interface Props {
    run: RunDetail;
    mayTick: boolean;
    onticked: () => unknown;
  }
  let { run, mayTick, onticked }: Props = $props();
  type Step = Schema['RunStep'];
  const open = $derived(['waiting', 'offered', 'running'].includes(run.state));
  const next = $derived(run.steps.find((s) => s.state !== 'done' && s.state !== 'left out'));
  // a restart is the agent's where the machine comes back alone
  const byAgent = (step: Step) =>
    !['restart', 'by hand'].includes(step.kind) ||
    (step.kind === 'restart' &&
      (step.state === 'under way' || (step.number === next?.number && open && !run.awaits_person)));
  const NAMES: Record<string, string> = {
    survey: 'Survey it',
    clean: 'Clean',
    'second look': 'Survey again',
    check: 'Check',
    'quick scan': 'Scan quickly for malware',
    'full scan': 'Scan all for malware',
    update: 'Install updates',
    tune: 'Tune',
    arrange: 'Arrange disks',
    restart: 'Restart it',
    compare: 'Compare with before'
  };
  const nameOf = useCategoryNames();
  const draft = untrack(() => new Draft(`steps:${run.id}`, { words: [] as string[] }));
  const words = draft.fields.words;
  let problem = $state('');

  async function tick(step: Step, state: 'done' | 'left out' | 'to do') {
    const { data, error } = await api.POST('/api/v2/runs/{run_id}/steps/{number}', {
      params: { path: { run_id: run.id, number: step.number } },
      body: { state, comment: words[step.number] ?? '' }
    });
    problem = error ? inWords(error) : '';
    if (data) {
      words[step.number] = '';
      onticked();
    }
  }
</script>

{#if problem}<p class="lossy" role="alert">{problem}</p>{/if}
<ol class="ruled mt-2" data-testid="steps">
  {#each run.steps as step (step.number)}
    {@const over = step.state === 'done' || step.state === 'left out'}
    <li
      class="grid gap-x-4 gap-y-1 py-3 sm:grid-cols-[2rem_minmax(0,1fr)_auto]"
      aria-current={step.number === next?.number ? 'step' : undefined}
    >
      <span class="muted text-right">{step.number}</span>
      <div>
        <p class:font-semibold={step.number === next?.number && open}>
          {#if byAgent(step)}<Bot size={15} class="inline" aria-label="by the agent" />{:else}<Hand
              size={15}
              class="inline"
              aria-label="by hand"
            />{/if}
          {step.title || NAMES[step.kind]}
          {#if step.categories.length}<span class="muted text-sm"
              >{step.categories.map(nameOf).join(', ')}</span
            >{/if}
        </p>
        {#if step.expected_seconds && !over}<p class="muted text-sm">
            takes about {stretch(step.expected_seconds)}
          </p>{/if}
        {#if step.text && !over}<p class="muted text-sm">{step.text}</p>{/if}
        {#if step.comment}<p class="text-sm">“{step.comment}”</p>{/if}
        {#if step.at}
          <p class="muted text-sm">{step.state} by {step.by}, <When at={step.at} /></p>
        {:else if step.state === 'under way'}
          <p class="text-sm" role="status">under way</p>
        {:else if open && step.number === next?.number && byAgent(step)}
          <p class="muted text-sm">waits for {run.machine_tag} to call</p>
        {/if}
      </div>
      {#if open && mayTick && !byAgent(step)}
        <div class="flex flex-wrap items-center gap-2">
          {#if over}
            <button class="act" onclick={() => tick(step, 'to do')}>Reopen</button>
          {:else}
            <input
              class="box w-52"
              placeholder="A word about it"
              aria-label="A word about step {step.number}"
              bind:value={words[step.number]}
              maxlength="500"
            />
            <button
              class="act"
              class:main={step.number === next?.number}
              onclick={() => tick(step, 'done')}>Done</button
            >
            <button
              class="act"
              disabled={!words[step.number]?.trim()}
              title="Say why first"
              onclick={() => tick(step, 'left out')}>Leave out</button
            >
          {/if}
        </div>
      {/if}
    </li>
  {/each}
</ol>
