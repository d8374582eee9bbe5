<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Machine, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask } from '$lib/api/queries';
  import { untrack } from 'svelte';
  import { settingRuleInWords, soFar, subjectOf, type Says, type Scope } from './rule';
  import RuleForm from './RuleForm.svelte';
  import { askRule } from './whatIf';

  interface Props {
    machine: Machine;
    setting: Schema['Setting'];
    onsaved: () => void;
  }
  let { machine, setting, onsaved }: Props = $props();
  const doing = new Doing();
  let scope = $state<Scope>('machine');
  let says = $state<Says>('leave');
  let on = $state(false);
  const choices = $derived<Record<string, string>>(setting.choices ?? {});
  let choice = $state(untrack(() => Object.keys(setting.choices ?? {})[0] ?? ''));
  let number = $state(untrack(() => setting.least ?? 0));
  let putRight = $state(false);
  const path = $derived({ scope, subject_id: subjectOf(machine, scope) });
  const asked = createQuery(() =>
    ask('/api/v2/setting-rules/{scope}/{subject_id}', { params: { path } })
  );
  const current = $derived(asked.data?.find((rule) => rule.setting === setting.key));
  const wanted = $derived(
    setting.kind === 'switch' ? on : setting.kind === 'number' ? Number(number) : choice
  );

  const edit = $derived({
    setting: setting.key,
    rule: {
      leave: says === 'leave' ? true : null,
      value: says === 'want' ? wanted : null,
      put_right: says === 'want' && putRight ? true : null
    }
  });
  const would = createQuery(() => ({
    ...askRule(path, { kind: 'setting', edit })
  }));

  async function save() {
    const call = () =>
      api.POST('/api/v2/setting-rules/{scope}/{subject_id}', {
        params: { path },
        headers: current ? { 'If-Match': `"${current.version}"` } : {},
        body: edit
      });
    if (await doing.try(call)) onsaved();
  }
</script>

<p class="mb-4">{setting.notice} <span class="muted">{setting.cost}</span></p>
<RuleForm
  {machine}
  bind:scope
  bind:says
  bind:putRight
  {asked}
  {would}
  now={asked.data ? soFar(current, current && settingRuleInWords(setting, current.rule)) : null}
  {doing}
  onsave={save}
  wish="It is to be"
  otherwise="farther rules decide"
>
  {#if setting.kind === 'switch'}
    <select class="box w-auto" aria-label="What it is to be" bind:value={on}>
      <option value={true}>on</option><option value={false}>off</option>
    </select>
  {:else if setting.kind === 'number'}
    <input
      class="box w-24"
      type="number"
      aria-label="What it is to be"
      min={setting.least}
      max={setting.maximum}
      bind:value={number}
      required
    />
    {setting.unit}
  {:else}
    <select class="box w-auto" aria-label="What it is to be" bind:value={choice}>
      {#each Object.entries(choices) as [key, name] (key)}<option value={key}>{name}</option>{/each}
    </select>
  {/if}
</RuleForm>
