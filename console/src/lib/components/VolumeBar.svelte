<script lang="ts">
  import type { Volume } from '$lib/api/client';
  import { share, size } from '$lib/words';

  interface Props {
    volume: Volume;
    goes?: number;
    asks?: number;
    threshold: number;
    tall?: boolean;
  }
  let { volume, goes = 0, asks = 0, threshold, tall = false }: Props = $props();

  const used = $derived(volume.capacity - volume.free);
  const kept = $derived(Math.max(0, used - goes - asks));
  const full = $derived(100 * used > threshold * volume.capacity);
  const part = (bytes: number) => `${(100 * bytes) / Math.max(1, volume.capacity)}%`;
  const words = $derived(
    `${volume.mount} ${share(used, volume.capacity)} used, ${size(volume.free)} free` +
      (goes ? `, ${size(goes)} would be removed` : '') +
      (asks ? `, ${size(asks)} needs approval` : '')
  );
</script>

<div
  class="bar"
  class:tall
  class:full
  role="img"
  aria-label={words + (full ? ', nearly full' : '')}
  title={words}
>
  <span style:width={part(kept)} style:background="var(--part-used)"></span>
  <span style:width={part(goes)} style:background="var(--part-goes)"></span>
  <span style:width={part(asks)} style:background="var(--part-asks)"></span>
  <i style:left="{threshold}%"></i>
</div>

<style>
  .bar {
    position: relative;
    display: flex;
    height: 0.6rem;
    background: var(--part-free);
    border-radius: 0.2rem;
    overflow: hidden;
  }
  .bar.tall {
    height: 1.75rem;
    border-radius: 0.3rem;
  }
  .bar.full {
    box-shadow: 0 0 0 2px var(--look);
  }
  .bar span {
    display: block;
    height: 100%;
    box-shadow: inset -1px 0 0 light-dark(#f7f4ee, #10191c);
  }
  .bar i {
    position: absolute;
    top: 0;
    bottom: 0;
    width: 2px;
    background: light-dark(#1d2b2f, #e6ece8);
  }
</style>
