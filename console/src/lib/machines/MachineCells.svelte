<script lang="ts">
  import type { Machine } from '$lib/api/client';
  import FreeLine from '$lib/components/FreeLine.svelte';
  import VolumeBar from '$lib/components/VolumeBar.svelte';
  import When from '$lib/components/When.svelte';
  import { day, share, size } from '$lib/words';
  import { DAYS, isNearlyFull, tightest, type Column } from './columns';

  interface Props {
    machine: Machine;
    columns: Column[];
    /** Shares free on a volume over the days. */
    lineOf: (volumeId: number) => (number | null)[] | undefined;
  }
  let { machine, columns, lineOf }: Props = $props();
  const volume = $derived(tightest(machine));
  const full = $derived(isNearlyFull(machine));
  const line = $derived(volume && lineOf(volume.id));
  const model = $derived(`${machine.make} ${machine.model}`.trim());
</script>

{#each columns as column (column.key)}
  {#if column.key === 'client'}
    <td class="min-w-36">{machine.client_name}</td>
  {:else if column.key === 'system'}
    <td>{machine.system}</td>
  {:else if column.key === 'model'}
    <td>{model}</td>
  {:else if column.key === 'tightest'}
    <td class="min-w-44" data-label={column.name}>
      {#if volume}
        <VolumeBar {volume} threshold={machine.limit_percent} />
        <span class="text-sm" class:lookhere={full}>
          <code>{volume.mount}</code>
          {share(volume.capacity - volume.free, volume.capacity)} used, {size(volume.free)} free{full
            ? ', nearly full'
            : ''}
        </span>
      {:else}
        <span class="muted">not read yet</span>
      {/if}
    </td>
  {:else if column.key === 'line'}
    <td data-label={column.name}>
      {#if line}<FreeLine shares={line} days={DAYS} />{/if}
    </td>
  {:else if column.key === 'crossing'}
    <td class="whitespace-nowrap" data-label={column.name}>
      {#if full}over already{:else if volume?.crosses?.likely}<span
          title="{volume.crosses.soonest ? `soonest ${day(volume.crosses.soonest)}` : ''}, {volume
            .crosses.latest
            ? `latest ${day(volume.crosses.latest)}`
            : 'perhaps never'}">{day(volume.crosses.likely)}</span
        >{:else if volume?.crosses?.soonest}<span class="muted"
          >perhaps {day(volume.crosses.soonest)}</span
        >{:else}<span class="muted">–</span>{/if}
    </td>
  {:else if column.key === 'cleaned'}
    <td class="whitespace-nowrap" data-label={column.name}><When at={machine.cleaned_at} /></td>
  {:else if column.key === 'round'}
    <td class="whitespace-nowrap" data-label={column.name}><When at={machine.next_round_at} /></td>
  {:else}
    <td class="whitespace-nowrap" data-label={column.name}>
      {#if machine.enrolled}<When at={machine.seen_at} />{:else}<span class="muted"
          >not enrolled</span
        >{/if}
    </td>
  {/if}
{/each}
