<script lang="ts">
  /** A small line of the share free over some days. */
  let { shares, days }: { shares: (number | null)[]; days: number } = $props();

  const WIDTH = 120;
  const HEIGHT = 28;
  const known = $derived(shares.filter((s): s is number => s !== null));
  const low = $derived(Math.min(...known));
  const high = $derived(Math.max(...known));
  const path = $derived.by(() => {
    const spread = Math.max(high - low, 0.02);
    let line = '';
    shares.forEach((share, i) => {
      if (share === null) return;
      const x = (i / (shares.length - 1)) * WIDTH;
      const y = HEIGHT - 3 - ((share - low) / spread) * (HEIGHT - 6);
      line += `${line ? 'L' : 'M'}${x.toFixed(1)} ${y.toFixed(1)}`;
    });
    return line;
  });
  const words = $derived(
    known.length
      ? `Free over ${days} days: between ${Math.round(100 * low)} and ${Math.round(100 * high)} per cent`
      : 'No readings yet'
  );
</script>

{#if known.length}
  <svg viewBox="0 0 {WIDTH} {HEIGHT}" width={WIDTH} height={HEIGHT} role="img" aria-label={words}>
    <title>{words}</title>
    <path d={path} fill="none" stroke="var(--main)" stroke-width="1.5" stroke-linejoin="round" />
  </svg>
{:else}
  <span class="muted">not read yet</span>
{/if}
