<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Machine, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import { startRun } from '$lib/api/runs';
  import { useMay } from '$lib/session';
  import { count } from '$lib/words';
  import Failed from './Failed.svelte';
  import Outcome from './Outcome.svelte';
  import When from './When.svelte';

  const SHOWN = 10;
  type Kept = Schema['StoredCheck'];
  interface Props {
    machine: Machine;
    busy: boolean;
    onstarted: () => void;
  }
  let { machine, busy, onstarted }: Props = $props();
  const may = useMay();
  const checking = new Doing();
  const settling = new Doing();
  const kindsAsked = createQuery(() => ask('/api/v2/checks'));
  const asked = createQuery(() =>
    ask('/api/v2/machines/{machine}/checks', { params: { path: { machine: machine.tag } } })
  );
  const nameOf = $derived(
    Object.fromEntries((kindsAsked.data ?? []).map((kind) => [kind.key, kind.name]))
  );
  let words = $state<Record<number, string>>({});

  async function check(checks: string[], modes: Record<string, string> = {}) {
    const start = () => startRun({ machine_id: machine.id, work: 'check', checks, modes });
    if (await checking.try(start)) onstarted();
  }
  const usual = $derived(
    (kindsAsked.data ?? []).filter((kind) => kind.in_step !== false).map((kind) => kind.key)
  );
  async function settle(kept: Kept) {
    const call = () =>
      api.POST('/api/v2/checks/{number}/settle', {
        params: { path: { number: kept.id } },
        body: { comment: (words[kept.id] ?? '').trim() }
      });
    if (await settling.try(call)) await refresh('/api/v2/machines/{machine}/checks');
  }
  const isOpen = (kept: Kept) =>
    !kept.settled_at && (kept.checked.findings ?? []).some(({ severity }) => severity !== 'note');
</script>

{#if !asked.data}
  <Failed query={asked} />
{:else}
  {#if asked.data.length === 0}
    <p class="mt-2">Not checked yet. A check changes nothing.</p>
  {/if}
  <ul class="ruled mt-1" data-testid="checks">
    {#each asked.data as kept (kept.id)}
      {@const { checked } = kept}
      <li class={checked.result === 'clean' ? 'py-1.5' : 'py-2.5'}>
        <strong>{nameOf[checked.check] ?? checked.check}</strong>
        {checked.mode}
        {checked.target}
        <span class={checked.result === 'clean' ? '' : 'block'}>
          <span class:lookhere={isOpen(kept)} class:muted={checked.result === 'clean'}
            >{checked.result}</span
          >{checked.why ? `: ${checked.why}` : ''}<span class="muted text-sm"
            >, <When at={checked.ended_at} /></span
          >
        </span>
        {#each (checked.findings ?? []).slice(0, SHOWN) as finding, n (n)}
          <p class="max-w-prose">
            {finding.what}{finding.where && !finding.what.includes(finding.where)
              ? `: ${finding.where}`
              : ''}
            <span class="muted block text-sm">{finding.evidence}</span>
          </p>
        {/each}
        {#if (checked.findings ?? []).length + (checked.unlisted ?? 0) > SHOWN}
          <p class="muted text-sm">
            and {count(
              (checked.findings ?? []).length + (checked.unlisted ?? 0) - SHOWN,
              'finding'
            )} more
          </p>
        {/if}
        {#if kept.settled_at}
          <p class="muted text-sm">
            Seen to by {kept.settled_by}, <When at={kept.settled_at} />: {kept.settled_comment}
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
            <button class="act" disabled={settling.busy}>It is dealt with</button>
          </form>
        {/if}
      </li>
    {/each}
  </ul>
  <Outcome of={settling} />
  {#if may.work}
    {#if busy}<p class="muted mt-2">The machine is busy.</p>{:else}
      <div class="noprint mt-3 flex flex-wrap gap-2">
        <button
          class="act"
          disabled={checking.busy || !kindsAsked.data}
          onclick={() => check(usual)}>Check it</button
        >
        <button
          class="act"
          disabled={checking.busy}
          onclick={() => check(['malware'], { malware: 'quick' })}>Scan quickly for malware</button
        >
        <button
          class="act"
          disabled={checking.busy}
          onclick={() => check(['malware'], { malware: 'full' })}>Scan all for malware</button
        >
        <button
          class="act"
          disabled={checking.busy}
          onclick={() => check(['file-system'], { 'file-system': 'all' })}
          >Check unused volumes, too</button
        >
      </div>
    {/if}
    <Outcome of={checking} />
  {/if}
{/if}
