<script lang="ts">
  import type { Trend } from '$lib/api/client';
  import { count, day, full, share, signed, size } from '$lib/words';
  import { HEIGHT, MARGIN, freeAt, geometry, nearest } from './geometry';
  import TrendTable from './TrendTable.svelte';

  let { trend }: { trend: Trend } = $props();
  let asTable = $state(false);
  let width = $state(800);

  const drawn = $derived(geometry(trend, width));
  const last = $derived(trend.points.at(-1));
  const isShown = (at: string) =>
    Date.parse(at) >= Date.parse(trend.since) && Date.parse(at) <= drawn.end;
  const cleanings = $derived(trend.cleanings.filter((cleaning) => isShown(cleaning.at)));
  const sudden = $derived((trend.outlook?.sudden ?? []).filter((change) => isShown(change.at)));
  const begun = $derived(trend.lines.slice(1).filter((line) => isShown(line.began_at)));

  /** Readings and then what may come: what the pointer or the keyboard can be on. */
  const spots = $derived([
    ...trend.points.map(({ at, free }) => ({ at, free, likely: false })),
    ...drawn.cone.slice(1).map(({ at, likely }) => ({ at, free: likely, likely: true }))
  ]);
  const places = $derived(spots.map((spot) => drawn.atX(spot.at)));
  let on = $state(-1);
  const spot = $derived(spots[on]);
  const near = (at: string) => Math.abs(drawn.atX(at) - (places[on] ?? -99)) <= 5;
  const said = $derived.by(() => {
    if (!spot) return [];
    const capacity = last?.capacity ?? 1;
    return [
      `${full(spot.at).replace(/:\d\d$/, '')}:`,
      `${spot.likely ? 'likely ' : ''}${size(spot.free)} free, ${share(capacity - spot.free, capacity)} used`,
      ...cleanings.filter((c) => near(c.at)).map((c) => `cleaned, ${size(c.freed)} freed`),
      ...sudden
        .filter((change) => near(change.at))
        .map((change) => {
          const grown = change.grown.map((g) => `${g.name} ${signed(g.size)}`).join(', ');
          return `sudden: ${signed(change.size)} more used${grown ? ` (${grown})` : ''}`;
        })
    ];
  });

  function onpointermove(event: PointerEvent & { currentTarget: SVGElement }) {
    on = nearest(places, event.clientX - event.currentTarget.getBoundingClientRect().left);
  }
  function onkeydown(event: KeyboardEvent) {
    const end = spots.length - 1;
    const step = event.shiftKey ? 10 : 1;
    const now = on < 0 ? trend.points.length : on;
    if (event.key === 'ArrowLeft') on = Math.max(0, now - step);
    else if (event.key === 'ArrowRight') on = Math.min(end, now + step);
    else if (event.key === 'Home') on = 0;
    else if (event.key === 'End') on = end;
    else if (event.key === 'Escape') on = -1;
    else return;
    event.preventDefault();
  }
</script>

<figure>
  {#if !trend.points.length}
    <p class="muted py-8">No readings in this span yet.</p>
  {:else if asTable}
    <TrendTable {trend} cone={drawn.cone} />
  {:else}
    <!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
    <div
      class="relative"
      role="application"
      tabindex="0"
      aria-label="Free space of {trend.mount}; arrow keys go from reading to reading"
      bind:clientWidth={width}
      onblur={() => (on = -1)}
      {onkeydown}
    >
      <svg
        class="chart"
        viewBox="0 0 {width} {HEIGHT}"
        height={HEIGHT}
        aria-hidden="true"
        {onpointermove}
        onpointerleave={() => (on = -1)}
      >
        {#each drawn.yTicks as tick (tick.text)}
          <path class="grid" d="M{MARGIN.left} {tick.at}H{width - MARGIN.right}" />
          <text x={MARGIN.left - 8} y={tick.at + 4} text-anchor="end">{tick.text}</text>
        {/each}
        {#each drawn.xTicks as tick (tick.at)}
          <path class="grid" d="M{tick.at} {HEIGHT - MARGIN.bottom}v5" />
          <text x={tick.at} y={HEIGHT - 8} text-anchor="middle">{tick.text}</text>
        {/each}
        <path class="under" d={drawn.under} />
        <path class="cone" d={drawn.coneArea} />
        <path class="likely" d={drawn.likely} />
        <path class="free" d={drawn.line} />
        {#if drawn.threshold !== null}
          <path class="threshold" d="M{MARGIN.left} {drawn.threshold}H{width - MARGIN.right}" />
          <text class="look" x={width - MARGIN.right + 6} y={drawn.threshold + 4}
            >{trend.threshold_percent} %</text
          >
        {/if}
        {#each begun as line (line.began_at)}
          {@const x = drawn.atX(line.began_at)}
          <path class="begun" d="M{x} {MARGIN.top}V{HEIGHT - MARGIN.bottom}" />
          <text {x} y={MARGIN.top - 3} text-anchor="middle">new line</text>
        {/each}
        {#each cleanings as cleaning (cleaning.run_id)}
          {@const x = drawn.atX(cleaning.at)}
          {@const y = drawn.atY(freeAt(trend, cleaning.at))}
          <path class="cleaned" d="M{x} {y - 5}l5 9h-10z" />
        {/each}
        {#each sudden as change (change.at)}
          {@const x = drawn.atX(change.at)}
          {@const y = drawn.atY(freeAt(trend, change.at))}
          <path class="sudden" d="M{x} {y - 6}l6 6l-6 6l-6 -6z" />
        {/each}
        {#if spot}
          <path class="grid" d="M{places[on]} {MARGIN.top}V{HEIGHT - MARGIN.bottom}" />
          <circle class="on" cx={places[on]} cy={drawn.atY(spot.free)} r="4" />
        {/if}
      </svg>
      {#if spot}
        <p
          class="tip"
          class:left={(places[on] ?? 0) > width / 2}
          style:left="{places[on]}px"
          aria-hidden="true"
        >
          {#each said as line (line)}<span>{line}</span>{/each}
        </p>
      {/if}
    </div>
    <p class="sr-only" aria-live="polite">{said.join(' ')}</p>
  {/if}
  <figcaption class="muted flex flex-wrap items-center justify-between gap-2 text-sm">
    <span>
      Free space of <code>{trend.mount}</code>; {count(cleanings.length, 'cleaning')} marked ▲{#if sudden.length},
        {count(sudden.length, 'sudden change')} ◆{/if}; dashed: {trend.threshold_percent} % used{#if drawn.cone.length};
        grey: 80 % forecast range until {day(new Date(drawn.end).toISOString())}{/if}
    </span>
    <button class="plain noprint" onclick={() => (asTable = !asTable)}>
      {asTable ? 'Show as a chart' : 'Show as a table'}
    </button>
  </figcaption>
</figure>

<style>
  .chart {
    display: block;
    width: 100%;
    touch-action: pan-y;
  }
  text {
    fill: var(--muted);
    font-size: 12px;
  }
  text.look {
    fill: var(--look);
  }
  path {
    fill: none;
  }
  .grid {
    stroke: var(--line);
  }
  .free {
    stroke: var(--main);
    stroke-width: 1.75;
    stroke-linejoin: round;
  }
  .under {
    fill: var(--main);
    opacity: 0.1;
  }
  .cone {
    fill: var(--muted);
    opacity: 0.22;
  }
  .likely {
    stroke: var(--muted);
    stroke-width: 2;
    stroke-dasharray: 2 4;
  }
  .threshold {
    stroke: var(--look);
    stroke-dasharray: 6 4;
  }
  .begun {
    stroke: var(--muted);
    stroke-dasharray: 2 3;
  }
  .cleaned {
    fill: var(--look);
  }
  .sudden {
    fill: var(--loss);
  }
  .on {
    fill: var(--main);
    stroke: var(--raised);
    stroke-width: 2;
  }
  .tip {
    position: absolute;
    top: 0.5rem;
    translate: 0.75rem 0;
    display: flex;
    flex-direction: column;
    max-width: 16rem;
    padding: 0.4rem 0.6rem;
    border: 1px solid var(--line);
    border-radius: 0.3rem;
    background: var(--raised);
    font-size: 0.875rem;
    pointer-events: none;
  }
  .tip.left {
    translate: calc(-100% - 0.75rem) 0;
  }
  @media (forced-colors: active) {
    .free,
    .likely,
    .threshold,
    .begun {
      stroke: CanvasText;
    }
    text,
    .cleaned,
    .sudden {
      fill: CanvasText;
    }
  }
</style>
