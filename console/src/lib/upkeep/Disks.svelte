<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import type { Machine } from '$lib/api/client';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Modal from '$lib/components/Modal.svelte';
  import NumberField from '$lib/components/NumberField.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import { useMay } from '$lib/session';
  import { inGroups } from '$lib/words';
  import { Acting } from './acting.svelte';

  interface Props {
    machine: Machine;
    busy: boolean;
    onstarted: () => void;
  }
  let { machine, busy, onstarted }: Props = $props();
  const may = useMay();
  const doing = new Acting();
  const repairing = new Acting();
  const asked = createQuery(() =>
    ask('/api/v2/machines/{machine}/inventories', { params: { path: { machine: machine.tag } } })
  );
  const list = $derived(asked.data?.find((one) => one.kind === 'disks'));
  const TREATMENTS = {
    gather: 'Pieces of files can be put together',
    'give back': 'The disk can be told which blocks are free',
    none: 'Left as it is'
  };
  let broken = $state('');
  let open = $state(false);
  let days = $state<number | null>(null);
  let word = $state('');

  async function arrange() {
    if (await doing.act(machine.id, { action: 'arrange-disks', volumes: [] })) onstarted();
  }
  async function repair() {
    if (days === null) return;
    const act = { action: 'repair-file-system', volume: broken, backup_days: days } as const;
    if (await repairing.act(machine.id, act, word.trim())) {
      open = false;
      onstarted();
    }
  }
</script>

{#if !asked.data}<Failed query={asked} />{:else}
  {#if !list}<p class="mt-2">Nobody has looked at how files lie here yet: check it.</p>{/if}
  <ul class="ruled mt-1" data-testid="disks">
    {#each list?.volumes ?? [] as volume, n (n)}
      <li class="flex flex-wrap items-start justify-between gap-x-4 gap-y-1 py-2">
        <span>
          <code>{volume.volume}</code>
          {TREATMENTS[volume.judgement.treatment]}
          <span class="muted block text-sm">
            {volume.judgement.why}{#if volume.files}; {inGroups(volume.files)} files lie in {inGroups(
                volume.pieces ?? 0
              )} pieces{/if}
          </span>
        </span>
        {#if may.work}
          <button
            class="act noprint"
            disabled={busy}
            aria-label="Repair {volume.volume} at the next start…"
            onclick={() => {
              broken = volume.volume;
              open = true;
            }}>Repair…</button
          >
        {/if}
      </li>
    {/each}
  </ul>
  {#if may.work && list?.volumes?.some((volume) => volume.judgement.treatment !== 'none')}
    <button class="act noprint mt-2" disabled={busy || doing.busy} onclick={arrange}
      >Arrange its disks</button
    >
  {/if}
  <Outcome of={doing} />
{/if}
<Modal bind:open title="Repair {broken} when {machine.tag} starts next">
  <p>
    The next start takes longer, up to hours. Parts of damaged files can be lost, and where the
    system may not decide alone, the machine waits for somebody at it.
  </p>
  <div class="mt-3 grid gap-3 sm:grid-cols-2">
    <NumberField label="Days since the last backup" bind:value={days} placeholder="" max={36500} />
    <label class="field">
      <span>Said to it, for the record</span>
      <input class="box" maxlength="400" bind:value={word} />
    </label>
  </div>
  <Outcome of={repairing} />
  <div class="mt-4 flex flex-wrap gap-2">
    <button class="act loss" disabled={repairing.busy || days === null} onclick={repair}
      >Repair it at the next start</button
    >
    <button class="act" onclick={() => (open = false)}>Not now</button>
  </div>
</Modal>
