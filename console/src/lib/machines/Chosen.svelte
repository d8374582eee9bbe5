<script lang="ts">
  import { goto } from '$app/navigation';
  import { downloadCsv } from '$lib/api/download';
  import RoutineStart from '$lib/components/RoutineStart.svelte';
  import { count } from '$lib/words';
  import Download from '@lucide/svelte/icons/download';
  import Repeat from '@lucide/svelte/icons/repeat';
  import type { SvelteSet } from 'svelte/reactivity';
  import { handOver } from './chosen';
  import RuleForMany from './RuleForMany.svelte';

  interface Props {
    chosen: SvelteSet<number>;
    /** All that the listing shows now. */
    shown: number[];
    mayWork: boolean;
    mayRule: boolean;
  }
  let { chosen, shown, mayWork, mayRule }: Props = $props();
  const ids = $derived([...chosen]);
  const MOST = 500;
  let problem = $state('');

  function makeRound() {
    handOver(ids);
    void goto('/rounds/new?chosen=yes');
  }
  async function save() {
    const query = ids.map((id) => `machine_id=${id}`).join('&');
    problem = '';
    await downloadCsv(`/api/v2/machines?${query}`, 'machines.csv').catch((error: Error) => {
      problem = error.message;
    });
  }
</script>

<div class="noprint mt-3 flex flex-wrap items-center gap-3" data-testid="chosen">
  <strong>{count(chosen.size, 'machine')} chosen</strong>
  {#if mayWork}
    <RoutineStart machineIds={ids} />
    <button class="act" onclick={makeRound}><Repeat aria-hidden="true" />Make a round</button>
  {/if}
  {#if mayRule}<RuleForMany machineIds={ids} />{/if}
  <button class="act" disabled={ids.length > MOST} onclick={save}>
    <Download aria-hidden="true" />Save as CSV
  </button>
  <button class="act" onclick={() => shown.forEach((id) => chosen.add(id))}
    >Choose all {shown.length}</button
  >
  <button class="act" onclick={() => chosen.clear()}>Choose none</button>
  {#if ids.length > MOST}<span class="muted">CSV of chosen machines: at most {MOST}.</span>{/if}
  {#if problem}<p class="lossy" role="alert">{problem}</p>{/if}
</div>
