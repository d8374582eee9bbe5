<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Machine, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import { useMay } from '$lib/session';
  import { untrack } from 'svelte';

  interface Props {
    machine: Machine;
    setting: Schema['Setting'];
    onsaved: () => void;
  }
  let { machine, setting, onsaved }: Props = $props();
  const may = useMay();
  const doing = new Doing();
  let scope = $state<'machine' | 'client' | 'shop'>('machine');
  let says = $state<'leave' | 'want' | 'nothing'>('leave');
  let on = $state(false);
  const choices = $derived<Record<string, string>>(setting.choices ?? {});
  let choice = $state(untrack(() => Object.keys(setting.choices ?? {})[0] ?? ''));
  let number = $state(untrack(() => setting.least ?? 0));
  let putRight = $state(false);
  const subject = $derived({ machine: machine.id, client: machine.client_id, shop: 0 }[scope]);
  const asked = createQuery(() =>
    ask('/api/v1/setting-rules/{scope}/{subject_id}', {
      params: { path: { scope, subject_id: subject } }
    })
  );
  const current = $derived(asked.data?.find((rule) => rule.setting === setting.key));
  const wanted = $derived(
    setting.kind === 'switch' ? on : setting.kind === 'number' ? Number(number) : choice
  );
  function shown(value: boolean | number | string): string {
    if (typeof value === 'boolean') return value ? 'on' : 'off';
    if (typeof value === 'number') return `${value} ${setting.unit}`.trim();
    return choices[value] ?? value;
  }
  function inWords(rule: Schema['TuningRule']): string {
    const parts = [];
    if (rule.leave) parts.push('stays as it is');
    if (rule.want != null) parts.push(`is to be ${shown(rule.want)}`);
    if (rule.put_right) parts.push('put right by rounds when something alters it');
    return parts.join('; ') || 'says nothing';
  }
  async function save(event: SubmitEvent) {
    event.preventDefault();
    const rule: Schema['TuningRule'] = {
      leave: says === 'leave' ? true : null,
      want: says === 'want' ? wanted : null,
      put_right: says === 'want' && putRight ? true : null
    };
    const call = () =>
      api.POST('/api/v1/setting-rules/{scope}/{subject_id}', {
        params: { path: { scope, subject_id: subject } },
        headers: current ? { 'If-Match': `"${current.version}"` } : {},
        body: { setting: setting.key, rule }
      });
    if (await doing.try(call)) onsaved();
  }
</script>

<form class="space-y-4" onsubmit={save}>
  <p>{setting.notice} <span class="muted">{setting.cost}</span></p>
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
      {current ? `So far: ${inWords(current.rule)}, by ${current.changed_by}.` : 'No rule yet.'}
    </p>
  {:else}<Failed query={asked} />{/if}
  <fieldset class="space-y-2">
    <legend class="sr-only">What it says</legend>
    <label class="flex items-center gap-2">
      <input type="radio" name="says" value="leave" bind:group={says} /> It was asked for: it stays as
      it is
    </label>
    <div class="flex flex-wrap items-center gap-2">
      <label class="flex items-center gap-2">
        <input type="radio" name="says" value="want" bind:group={says} /> It is to be
      </label>
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
          max={setting.most}
          bind:value={number}
          required
        />
        {setting.unit}
      {:else}
        <select class="box w-auto" aria-label="What it is to be" bind:value={choice}>
          {#each Object.entries(choices) as [key, name] (key)}<option value={key}>{name}</option
            >{/each}
        </select>
      {/if}
    </div>
    {#if says === 'want'}
      <label class="ml-7 flex items-center gap-2">
        <input type="checkbox" bind:checked={putRight} /> rounds set it again when something else altered
        it, three times at most
      </label>
    {/if}
    <label class="flex items-center gap-2">
      <input type="radio" name="says" value="nothing" bind:group={says} /> Nothing: farther rules decide
    </label>
  </fieldset>
  <Outcome of={doing} />
  <div class="flex justify-end">
    <button class="act main" disabled={doing.busy || !asked.data}>Save the rule</button>
  </div>
</form>
