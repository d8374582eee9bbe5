<script lang="ts">
  import type { Trend } from '$lib/api/client';
  import { full, share, size } from '$lib/words';

  interface Props {
    trend: Trend;
    cone: { at: string; low: number; likely: number; high: number }[];
  }
  let { trend, cone }: Props = $props();
  const capacity = $derived(trend.points.at(-1)?.capacity ?? 1);
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="max-h-72 overflow-auto" tabindex="0" role="region" aria-label="Readings">
  <table class="sheet">
    <caption class="sr-only">Free space of {trend.mount}</caption>
    <thead>
      <tr>
        <th scope="col">when</th>
        <th scope="col" class="right">free</th>
        <th scope="col" class="right">used</th>
      </tr>
    </thead>
    <tbody>
      {#each cone.slice(1).toReversed() as point (point.at)}
        <tr class="muted">
          <th scope="row">{full(point.at)}, likely</th>
          <td class="right">{size(point.likely)} ({size(point.low)} to {size(point.high)})</td>
          <td class="right">{share(capacity - point.likely, capacity)}</td>
        </tr>
      {/each}
      {#each trend.points.toReversed() as point (point.at)}
        <tr>
          <th scope="row">{full(point.at)}</th>
          <td class="right">{size(point.free)}</td>
          <td class="right">{share(point.capacity - point.free, point.capacity)}</td>
        </tr>
      {/each}
    </tbody>
  </table>
</div>
