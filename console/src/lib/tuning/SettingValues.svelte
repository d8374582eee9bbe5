<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Machine, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { startRun } from '$lib/api/runs';
  import { ask, refresh } from '$lib/api/queries';
  import Modal from '$lib/components/Modal.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import { useMay } from '$lib/session';
  import { count } from '$lib/words';
  import { SvelteSet } from 'svelte/reactivity';
  import RuleForSetting from './RuleForSetting.svelte';

  type Judged = Schema['JudgedValue'];
  interface Props {
    machine: Machine;
    busy: boolean;
    onstarted: () => void;
  }
  let { machine, busy, onstarted }: Props = $props();
  const may = useMay();
  const doing = new Doing();
  const answering = new Doing();
  const asked = createQuery(() =>
    ask('/api/v2/machines/{machine}/programs', { params: { path: { machine: machine.tag } } })
  );
  const answersAsked = createQuery(() =>
    ask('/api/v2/answers/{scope}/{subject_id}', {
      params: { path: { scope: 'machine', subject_id: machine.id } }
    })
  );
  const questions = $derived(
    new Map((answersAsked.data ?? []).map(({ question }) => [question.key, question.text]))
  );
  const values = $derived(asked.data?.values ?? []);
  const keyOf = ({ seen }: Judged) => `${seen.key} ${seen.person}`;
  const changing = $derived(values.filter((value) => value.verdict.changes));
  const left = new SvelteSet<string>();
  const chosen = $derived(changing.filter((value) => !left.has(keyOf(value))));
  let open = $state(false);
  let word = $state('');
  let ruled = $state<Judged | null>(null);
  let ruling = $state(false);

  function why({ verdict }: Judged): string {
    if (verdict.changes) return `the ${verdict.source}’s rule wants it`;
    const detail = questions.get(verdict.detail ?? '') ?? verdict.detail;
    return detail ? `${verdict.reason}: ${detail}` : (verdict.reason ?? '');
  }
  const again = () =>
    refresh(
      '/api/v2/machines/{machine}/programs',
      '/api/v2/answers/{scope}/{subject_id}',
      '/api/v2/setting-rules/{scope}/{subject_id}'
    );
  async function answer(question: string, answer: 'yes' | 'no') {
    const path = { scope: 'client' as const, subject_id: machine.client_id, question };
    await answering.try(() =>
      api.PUT('/api/v2/answers/{scope}/{subject_id}/{question}', {
        params: { path },
        body: { answer, comment: '' }
      })
    );
    await again();
  }
  async function change() {
    const call = () =>
      startRun({
        machine_id: machine.id,
        work: 'change settings',
        values: chosen.map(({ seen, verdict }) => ({
          setting: seen.key,
          person: seen.person,
          value: verdict.value ?? false
        })),
        comment: word.trim()
      });
    if (await doing.try(call)) {
      open = false;
      word = '';
      onstarted();
    }
  }
</script>

{#if values.length}
  <h3 class="mt-8 font-semibold">Settings <span class="muted">{values.length}</span></h3>
  <Outcome of={answering} />
  <div class="overflow-x-auto">
    <table class="sheet cards mt-1" data-testid="setting-values">
      <caption class="sr-only">Settings of {machine.tag}</caption>
      <thead>
        <tr>
          <th scope="col">setting</th>
          <th scope="col" class="w-44">is</th>
          <th scope="col" class="w-44">becomes</th>
          <th scope="col" class="w-[36%]">why</th>
        </tr>
      </thead>
      <tbody>
        {#each values as value (keyOf(value))}
          <tr>
            <th scope="row" class="min-w-52">
              {value.setting.name}{#if value.seen.person}{' '}<span class="muted"
                  >of {value.seen.person}</span
                >{/if}
              {#if value.verdict.changes}<div class="muted text-sm font-normal">
                  {value.setting.notice}
                </div>{/if}
            </th>
            <td data-label="is">{value.now}</td>
            <td data-label="becomes">
              {#if value.verdict.changes}<strong>{value.becomes}</strong>{:else}unchanged{/if}
            </td>
            <td class="min-w-52" data-label="why">
              {why(value)}{value.verdict.needs_approval ? '; needs approval' : ''}
              {#if may.work}
                {#if value.verdict.reason === 'no answer yet' && value.verdict.detail}
                  {@const question = value.verdict.detail}
                  <div class="noprint mt-1 flex flex-wrap gap-2">
                    {#each ['yes', 'no'] as const as said (said)}
                      <button
                        class="act"
                        disabled={answering.busy}
                        aria-label="{said === 'yes'
                          ? 'Yes'
                          : 'No'}, says {machine.client_name}, about {value.setting
                          .name}: {questions.get(question)}"
                        onclick={() => answer(question, said)}
                        >{said === 'yes' ? 'Yes' : 'No'}</button
                      >
                    {/each}
                  </div>
                {/if}
                <button
                  class="plain noprint ml-2 text-sm"
                  aria-label="Rule for {value.setting.name}"
                  onclick={() => {
                    ruled = value;
                    ruling = true;
                  }}>Rule…</button
                >
              {/if}
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
  {#if changing.length && may.work}
    {#if busy}<p class="muted mt-2">The machine is busy.</p>{:else}
      <button class="act main noprint mt-2" onclick={() => (open = true)}>Change settings…</button>
    {/if}
  {/if}
{/if}

<Modal bind:open wide title="Change settings of {machine.tag}?">
  <div class="space-y-4" data-testid="values-dialogue">
    <ul class="space-y-3">
      {#each changing as value (keyOf(value))}
        <li>
          <label class="flex items-start gap-2">
            <input
              type="checkbox"
              class="mt-1"
              checked={!left.has(keyOf(value))}
              onchange={(e) =>
                e.currentTarget.checked ? left.delete(keyOf(value)) : left.add(keyOf(value))}
            />
            <span>
              <strong>{value.setting.name}</strong>{value.seen.person
                ? ` of ${value.seen.person}`
                : ''}: {value.now}
              now, {value.becomes} then. {value.setting.notice}
              <span class="muted block text-sm">
                {value.setting.cost}
                {#if value.setting.goes_back === 'none'}<span class="lossy"
                    >This cannot be put back.</span
                  >{:else if value.setting.goes_back === 'approximate'}It can be put back nearly as
                  it was.{/if}
              </span>
            </span>
          </label>
        </li>
      {/each}
    </ul>
    <label class="field">
      <span>Why, or what the client said (for the record)</span>
      <input class="box" bind:value={word} maxlength="400" placeholder="asked by phone" />
    </label>
    <Outcome of={doing} />
    <div class="flex justify-end gap-2">
      <button class="act" onclick={() => (open = false)}>Cancel</button>
      <button class="act main" disabled={doing.busy || !chosen.length} onclick={change}>
        Change {count(chosen.length, 'setting')}
      </button>
    </div>
  </div>
</Modal>
<Modal bind:open={ruling} title="Rule: {ruled?.setting.name ?? ''}">
  {#if ruled}
    {#key ruled.setting.key}
      <RuleForSetting
        {machine}
        setting={ruled.setting}
        onsaved={() => {
          ruling = false;
          void again();
        }}
      />
    {/key}
  {/if}
</Modal>
