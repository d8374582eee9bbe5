<script lang="ts">
  import type { Ledger, Machine } from '$lib/api/client';
  import Term from '$lib/components/Term.svelte';
  import VolumeBar from '$lib/components/VolumeBar.svelte';
  import { useMay } from '$lib/session';
  import { share, size } from '$lib/words';
  import type { SvelteSet } from 'svelte/reactivity';

  interface Props {
    machine: Machine;
    /** Of its newest survey, where there is one. */
    ledger: Ledger | undefined;
    /** Volumes that are left out of the next survey or cleaning: what is unticked here. */
    leftOut: SvelteSet<string>;
  }
  let { machine, ledger, leftOut }: Props = $props();
  const may = useMay();
  const threshold = $derived(machine.limit_percent ?? 90);
  const mayChoose = $derived(machine.volumes.length > 1 && may.work && !machine.retired_at);
  const shareOf = (name: string) => ledger?.volumes.find((v) => v.mount === name);
</script>

<section class="mt-6 space-y-4" aria-label="Volumes">
  {#each machine.volumes as volume (volume.id)}
    {@const parts = shareOf(volume.mount)}
    <div>
      <p class="mb-1 flex flex-wrap justify-between gap-2">
        <span class="inline-flex items-center gap-2">
          {#if mayChoose}
            <label class="inline-flex items-center gap-2">
              <input
                type="checkbox"
                checked={!leftOut.has(volume.mount)}
                onchange={(e) =>
                  e.currentTarget.checked
                    ? leftOut.delete(volume.mount)
                    : leftOut.add(volume.mount)}
              />
              <span class="sr-only">{'Survey and clean '}</span><code>{volume.mount}</code>
            </label>
          {:else}<code>{volume.mount}</code>{/if}
          <span class="muted"
            >{volume.file_system} {volume.disk === 'unknown' ? '' : volume.disk}</span
          >
        </span>
        <span data-testid="free-{volume.mount}">
          {share(volume.capacity - volume.free, volume.capacity)} of {size(volume.capacity)} used,
          <strong>{size(volume.free)} free</strong>
        </span>
      </p>
      <VolumeBar
        {volume}
        {threshold}
        tall
        goes={parts?.removable ?? 0}
        asks={parts?.needs_approval ?? 0}
      />
    </div>
  {/each}
  <p class="muted flex flex-wrap gap-x-5 text-sm">
    <span><i class="key" style:background="var(--part-used)"></i>in use</span>
    <span><i class="key" style:background="var(--part-goes)"></i>would be removed</span>
    <span
      ><i class="key" style:background="var(--part-asks)"></i><Term of="consent"
        >needs approval</Term
      ></span
    >
    <span><i class="key" style:background="var(--part-free)"></i>free</span>
    <span>the tick: the <Term of="threshold" />, {threshold} % used</span>
    {#if mayChoose}
      <span>Untick a volume to leave it out of a survey or a cleaning.</span>
    {/if}
  </p>
</section>

<style>
  .key {
    display: inline-block;
    width: 0.8em;
    height: 0.8em;
    border-radius: 0.15em;
    margin-right: 0.35em;
    border: 1px solid var(--line);
  }
</style>
