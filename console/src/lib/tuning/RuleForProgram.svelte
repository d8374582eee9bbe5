<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Machine, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import { useMay } from '$lib/session';
  import { ruleInWords } from './rule';

  interface Props {
    machine: Machine;
    program: Schema['Program'];
    onsaved: () => void;
  }
  let { machine, program, onsaved }: Props = $props();
  const INTENTS = ['from the start', 'may wait', 'when asked', 'not at all'] as const;
  const may = useMay();
  const doing = new Doing();
  let scope = $state<'machine' | 'client' | 'shop'>('machine');
  let says = $state<'leave' | 'run' | 'nothing'>('leave');
  let intent = $state<Schema['Intent']>('when asked');
  let putRight = $state(false);
  const subject = $derived({ machine: machine.id, client: machine.client_id, shop: 0 }[scope]);
  const asked = createQuery(() =>
    ask('/api/v1/program-rules/{scope}/{subject_id}', {
      params: { path: { scope, subject_id: subject } }
    })
  );
  const current = $derived(asked.data?.find((rule) => rule.program === program.key));

  async function save(event: SubmitEvent) {
    event.preventDefault();
    const rule: Schema['ProgramRule'] = {
      leave: says === 'leave' ? true : null,
      intent: says === 'run' ? intent : null,
      put_right: says === 'run' && putRight ? true : null
    };
    const call = () =>
      api.POST('/api/v1/program-rules/{scope}/{subject_id}', {
        params: { path: { scope, subject_id: subject } },
        headers: current ? { 'If-Match': `"${current.version}"` } : {},
        body: { program: program.key, rule }
      });
    if (await doing.try(call)) onsaved();
  }
</script>

<form class="space-y-4" onsubmit={save}>
  <label class="field">
    <span>Holds for</span>
    <select class="box" bind:value={scope}>
      <option value="machine">{machine.tag}</option>
      <option value="client">all of {machine.client_name}</option>
      {#if may.own}<option value="shop">the whole shop</option>{/if}
    </select>
  </label>
  {#if asked.data}
    <p class="muted text-sm" data-testid="rule-now">
      {current ? `So far: ${ruleInWords(current.rule)}, by ${current.changed_by}.` : 'No rule yet.'}
    </p>
  {:else}<Failed query={asked} />{/if}
  <fieldset class="space-y-2">
    <legend class="sr-only">What it says</legend>
    <label class="flex items-center gap-2">
      <input type="radio" name="says" value="leave" bind:group={says} /> It was asked for: it stays as
      it is
    </label>
    <label class="flex flex-wrap items-center gap-2">
      <input type="radio" name="says" value="run" bind:group={says} /> It is to run
      <select class="box w-auto" aria-label="When it is to run" bind:value={intent}>
        {#each INTENTS as word (word)}<option>{word}</option>{/each}
      </select>
    </label>
    {#if says === 'run'}
      <label class="ml-7 flex items-center gap-2">
        <input type="checkbox" bind:checked={putRight} /> rounds set it again when something else altered
        it, three times at most
      </label>
    {/if}
    <label class="flex items-center gap-2">
      <input type="radio" name="says" value="nothing" bind:group={says} /> Nothing: farther rules and
      the notebook decide
    </label>
  </fieldset>
  <p class="muted text-sm">
    A rule changes nothing by itself; the next change or round goes by it. What is guarded or
    unknown stays, whatever a rule says.
  </p>
  <Outcome of={doing} />
  <div class="flex justify-end">
    <button class="act main" disabled={doing.busy || !asked.data}>Save the rule</button>
  </div>
</form>
