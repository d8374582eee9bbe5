<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Machine, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { CallError, ask, refresh } from '$lib/api/queries';
  import { startRun } from '$lib/api/runs';
  import Failed from '$lib/components/Failed.svelte';
  import Modal from '$lib/components/Modal.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import When from '$lib/components/When.svelte';
  import { useMay } from '$lib/session';
  import { count } from '$lib/words';
  import ChangePrograms from './ChangePrograms.svelte';
  import ChangesMade from './ChangesMade.svelte';
  import RuleForProgram from './RuleForProgram.svelte';
  import SettingValues from './SettingValues.svelte';
  import WriteAbout from './WriteAbout.svelte';

  type Judged = Schema['JudgedProgram'];
  interface Props {
    machine: Machine;
    busy: boolean;
    onstarted: () => void;
  }
  let { machine, busy, onstarted }: Props = $props();
  const may = useMay();
  const doing = new Doing();
  const asked = createQuery(() =>
    ask('/api/v2/machines/{machine}/programs', { params: { path: { machine: machine.tag } } })
  );
  const answersAsked = createQuery(() =>
    ask('/api/v2/answers/{scope}/{subject_id}', {
      params: { path: { scope: 'machine', subject_id: machine.id } }
    })
  );
  const isNone = $derived(asked.error instanceof CallError && asked.error.status === 404);
  const words = $derived(
    Object.fromEntries(
      (answersAsked.data ?? []).map((asked) => [asked.question.key, asked.question])
    )
  );

  const answers = $derived(
    Object.fromEntries(
      (answersAsked.data ?? []).map((asked) => [asked.question.key, asked.answer?.answer])
    )
  );

  const GROUPS = [
    { key: 'changes', name: 'Would change' },
    { key: 'no answer yet', name: 'Needs an answer' },
    { key: 'unknown', name: 'Not in our notes yet' },
    { key: 'stays', name: 'Unchanged' }
  ];
  function groupOf({ verdict }: Judged): string {
    if (verdict.changes) return 'changes';
    const reason = verdict.reason ?? '';
    return reason === 'no answer yet' || reason === 'unknown' ? reason : 'stays';
  }
  const groups = $derived(Object.groupBy(asked.data?.programs ?? [], groupOf));

  function startedBy({ program }: Judged): string {
    return (program.starters ?? [])
      .map((starter) => {
        const of = starter.person ? ` of ${starter.person}` : '';
        const when = starter.when ? ` (${starter.when})` : '';
        return `${starter.kind}${of}${when}${starter.on ? '' : ', off'}`;
      })
      .join('; ');
  }
  function cost({ program }: Judged): string {
    const spent = program.cost?.processor_ms;
    return spent === undefined ? '' : `${(spent / 1000).toFixed(1)} s`;
  }
  function why({ verdict, program }: Judged): string {
    if (verdict.changes) {
      const by = verdict.source ? `the ${verdict.source}’s rule` : 'the notebook';
      return `${by} recommends it${verdict.needs_approval ? '; needs approval' : ''}`;
    }
    const detail = verdict.detail ?? '';
    const question = words[detail];
    const answered = answers[detail] ? ` ${answers[detail] === 'yes' ? 'Yes' : 'No'}.` : '';
    const said = question ? question.text + answered : detail || (program.guarded ?? '');
    return said ? `${verdict.reason}: ${said}` : (verdict.reason ?? '');
  }

  async function answer(question: string, answer: 'yes' | 'no') {
    const path = { scope: 'client' as const, subject_id: machine.client_id, question };
    await doing.try(() =>
      api.PUT('/api/v2/answers/{scope}/{subject_id}/{question}', {
        params: { path },
        body: { answer, comment: '' }
      })
    );
    await again();
  }
  const again = () =>
    refresh(
      '/api/v2/machines/{machine}/programs',
      '/api/v2/answers/{scope}/{subject_id}',
      '/api/v2/program-rules/{scope}/{subject_id}'
    );

  const looking = new Doing();
  async function look() {
    if (await looking.try(() => startRun({ machine_id: machine.id, work: 'look at settings' })))
      onstarted();
  }

  let about = $state<Judged | null>(null);
  let open = $state(false);
  let ruled = $state<Judged | null>(null);
  let ruling = $state(false);
</script>

{#snippet lookAgain(words: string)}
  {#if may.work}
    <button class="plain noprint" disabled={busy || looking.busy} onclick={look}>{words}</button>
    <Outcome of={looking} />
  {/if}
{/snippet}

{#if isNone}
  <p class="mt-2">Not looked at yet. A survey reads startup programs; it changes nothing.</p>
  {@render lookAgain('Look at it')}
{:else if !asked.data}
  <Failed query={asked} />
{:else}
  <p class="muted text-sm">
    Read <When at={asked.data.taken_at} />: {count(asked.data.programs?.length ?? 0, 'program')}.
    {#if asked.data.unread}<span class="lookhere"
        >The newest survey could not read it: {asked.data.unread}.</span
      >{/if}
    {@render lookAgain('Survey again')}
  </p>
  <Outcome of={doing} />
  {#each GROUPS as group (group.key)}
    {@const some = groups[group.key] ?? []}
    {#if some.length}
      <h3 class="mt-4 font-semibold">{group.name} <span class="muted">{some.length}</span></h3>
      <div class="overflow-x-auto">
        <table class="sheet cards mt-1" data-testid="programs-{group.key}">
          <caption class="sr-only">{group.name}</caption>
          <thead>
            <tr>
              <th scope="col">program</th>
              <th scope="col" class="w-36">runs now</th>
              <th scope="col" class="w-36">becomes</th>
              <th scope="col" class="right w-28">each start</th>
              <th scope="col" class="w-[36%]">why</th>
            </tr>
          </thead>
          <tbody>
            {#each some as judged (judged.program.key)}
              <tr>
                <th scope="row" class="min-w-52">
                  {judged.program.name}
                  <div class="muted text-sm font-normal">
                    {judged.program.description}
                    <span class="block">{startedBy(judged)}</span>
                  </div>
                </th>
                <td class="whitespace-nowrap" data-label="runs now">{judged.now}</td>
                <td class="whitespace-nowrap" data-label="becomes">
                  {#if judged.verdict.changes}<strong>{judged.verdict.value}</strong
                    >{:else}unchanged{/if}
                </td>
                <td class="right whitespace-nowrap" data-label="each start costs">{cost(judged)}</td
                >
                <td class="min-w-52" data-label="why">
                  {why(judged)}
                  {#if may.work && group.key === 'no answer yet' && judged.verdict.detail}
                    {@const question = judged.verdict.detail}
                    <div class="noprint mt-1 flex flex-wrap gap-2">
                      <button
                        class="act"
                        disabled={doing.busy}
                        aria-label="{machine.client_name} says yes: {words[question]?.text}"
                        onclick={() => answer(question, 'yes')}>Yes</button
                      >
                      <button
                        class="act"
                        disabled={doing.busy}
                        aria-label="{machine.client_name} says no: {words[question]?.text}"
                        onclick={() => answer(question, 'no')}>No</button
                      >
                      <span class="muted text-sm">for all of {machine.client_name}</span>
                    </div>
                  {:else if may.work && group.key === 'unknown'}
                    <button
                      class="act noprint mt-1"
                      onclick={() => {
                        about = judged;
                        open = true;
                      }}>Add a note on {judged.program.name}</button
                    >
                  {:else if may.work && !judged.program.guarded && !judged.program.unread}
                    <button
                      class="plain noprint ml-2 text-sm"
                      aria-label="Rule for {judged.program.name}"
                      onclick={() => {
                        ruled = judged;
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
      {#if group.key === 'changes' && may.work}
        {#if busy}<p class="muted mt-2">The machine is busy.</p>{:else}
          <ChangePrograms {machine} programs={some} {onstarted} />
        {/if}
      {/if}
    {/if}
  {/each}
{/if}

<SettingValues {machine} {busy} {onstarted} />
<ChangesMade {machine} {busy} {onstarted} />

<Modal bind:open wide title="Add a note on {about?.program.name ?? ''}">
  {#if about}
    {#key about.program.key}
      <WriteAbout
        program={about.program}
        onwritten={() => {
          open = false;
          void again();
        }}
      />
    {/key}
  {/if}
</Modal>
<Modal bind:open={ruling} title="Rule for {ruled?.program.name ?? ''}">
  {#if ruled}
    {#key ruled.program.key}
      <RuleForProgram
        {machine}
        program={ruled.program}
        onsaved={() => {
          ruling = false;
          void again();
        }}
      />
    {/key}
  {/if}
</Modal>
