<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Machine, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask } from '$lib/api/queries';
  import { ruleInWords, soFar, subjectOf, type Says, type Scope } from './rule';
  import RuleForm from './RuleForm.svelte';
  import { askRule } from './whatIf';

  interface Props {
    machine: Machine;
    program: Schema['Program'];
    onsaved: () => void;
  }
  let { machine, program, onsaved }: Props = $props();
  const INTENTS = ['at start', 'after start', 'on demand', 'off'] as const;
  const doing = new Doing();
  let scope = $state<Scope>('machine');
  let says = $state<Says>('leave');
  let intent = $state<Schema['Intent']>('on demand');
  let putRight = $state(false);
  const path = $derived({ scope, subject_id: subjectOf(machine, scope) });
  const asked = createQuery(() =>
    ask('/api/v2/program-rules/{scope}/{subject_id}', { params: { path } })
  );
  const current = $derived(asked.data?.find((rule) => rule.program === program.key));

  const edit = $derived({
    program: program.key,
    rule: {
      leave: says === 'leave' ? true : null,
      intent: says === 'want' ? intent : null,
      put_right: says === 'want' && putRight ? true : null
    }
  });
  const would = createQuery(() => ({
    ...askRule(path, { kind: 'program', edit })
  }));

  async function save() {
    const call = () =>
      api.POST('/api/v2/program-rules/{scope}/{subject_id}', {
        params: { path },
        headers: current ? { 'If-Match': `"${current.version}"` } : {},
        body: edit
      });
    if (await doing.try(call)) onsaved();
  }
</script>

<RuleForm
  {machine}
  bind:scope
  bind:says
  bind:putRight
  {asked}
  {would}
  now={asked.data ? soFar(current, current && ruleInWords(current.rule)) : null}
  {doing}
  onsave={save}
  wish="It is to run"
  otherwise="farther rules and the notebook decide"
  note="A rule changes nothing by itself; the next change or round goes by it. What is guarded or unknown stays, whatever a rule says."
>
  <select class="box w-auto" aria-label="When it is to run" bind:value={intent}>
    {#each INTENTS as word (word)}<option>{word}</option>{/each}
  </select>
</RuleForm>
