<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Machine, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import { startRun } from '$lib/api/runs';
  import { useMay } from '$lib/session';
  import Failed from './Failed.svelte';
  import Outcome from './Outcome.svelte';
  import When from './When.svelte';

  type Kept = Schema['KeptCheck'];
  interface Props {
    machine: Machine;
    busy: boolean;
    onstarted: () => void;
  }
  let { machine, busy, onstarted }: Props = $props();
  const may = useMay();
  const checking = new Doing();
  const settling = new Doing();
  const kindsAsked = createQuery(() => ask('/api/v1/checks'));
  const asked = createQuery(() =>
    ask('/api/v1/machines/{machine}/checks', { params: { path: { machine: machine.tag } } })
  );
  const nameOf = $derived(
    Object.fromEntries((kindsAsked.data ?? []).map((kind) => [kind.key, kind.name]))
  );
  let words = $state<Record<number, string>>({});

  async function check() {
    const checks = (kindsAsked.data ?? []).map((kind) => kind.key);
    const start = () => startRun({ machine_id: machine.id, work: 'check', checks });
    if (await checking.try(start)) onstarted();
  }
  async function settle(kept: Kept) {
    const call = () =>
      api.POST('/api/v1/checks/{number}/settle', {
        params: { path: { number: kept.id } },
        body: { word: (words[kept.id] ?? '').trim() }
      });
    if (await settling.try(call)) await refresh('/api/v1/machines/{machine}/checks');
  }
  const isOpen = (kept: Kept) =>
    !kept.settled_at && (kept.checked.findings ?? []).some(({ severity }) => severity !== 'note');
</script>

{#if !asked.data}
  <Failed query={asked} />
{:else}
  {#if asked.data.length === 0}
    <p class="mt-2">Not checked yet. A check asks disks and file systems; it changes nothing.</p>
  {/if}
  <ul class="ruled mt-1" data-testid="checks">
    {#each asked.data as kept (kept.id)}
      {@const { checked } = kept}
      <li class="py-2.5">
        <strong>{nameOf[checked.check] ?? checked.check}</strong>
        {checked.of}
        <span class="block">
          <span class:lookhere={isOpen(kept)}>{checked.result}</span>{checked.why
            ? `: ${checked.why}`
            : ''}<span class="muted text-sm">, <When at={checked.ended_at} /></span>
        </span>
        {#each checked.findings ?? [] as finding (finding.what)}
          <p class="max-w-prose">
            {finding.what}
            <span class="muted block text-sm">{finding.evidence}</span>
          </p>
        {/each}
        {#if kept.settled_at}
          <p class="muted text-sm">
            Seen to by {kept.settled_by}, <When at={kept.settled_at} />: {kept.settled_word}
          </p>
        {:else if may.work && isOpen(kept)}
          <form
            class="noprint mt-2 flex flex-wrap items-end gap-2"
            onsubmit={(event) => {
              event.preventDefault();
              void settle(kept);
            }}
          >
            <label class="field min-w-0 flex-1">
              <span>What was done about it</span>
              <input class="box" maxlength="400" required bind:value={words[kept.id]} />
            </label>
            <button class="act" disabled={settling.busy}>It is seen to</button>
          </form>
        {/if}
      </li>
    {/each}
  </ul>
  <Outcome of={settling} />
  {#if may.work}
    {#if busy}<p class="muted mt-2">The machine is busy.</p>{:else}
      <button class="act noprint mt-3" disabled={checking.busy || !kindsAsked.data} onclick={check}
        >Check it</button
      >
    {/if}
    <Outcome of={checking} />
  {/if}
{/if}
