<script lang="ts">
  import type { Trend } from '$lib/api/client';
  import { count, day, full, share, signed, size } from '$lib/words';
  import { LineChart, ScatterChart } from 'echarts/charts';
  import {
    AriaComponent,
    GridComponent,
    MarkLineComponent,
    TooltipComponent
  } from 'echarts/components';
  import { init, use } from 'echarts/core';
  import { SVGRenderer } from 'echarts/renderers';

  use([
    LineChart,
    ScatterChart,
    GridComponent,
    TooltipComponent,
    MarkLineComponent,
    AriaComponent,
    SVGRenderer
  ]);

  let { trend }: { trend: Trend } = $props();
  let asTable = $state(false);
  let frame = $state<HTMLDivElement>();

  const GIB = 1024 ** 3;
  const FACE = 'Atkinson Hyperlegible Next Variable';
  const last = $derived(trend.points.at(-1));
  const said = $derived(trend.outlook);
  /** What may come is shown for a third of the span, where the span ends now. */
  const ends = $derived.by(() => {
    const [begin, end] = [Date.parse(trend.since), Date.parse(trend.until)];
    const isNow = last !== undefined && end - Date.parse(last.at) < 15 * 86_400_000;
    if (!said?.cone.length || !isNow) return end;
    return end + Math.max(14 * 86_400_000, (end - begin) / 3);
  });
  const cone = $derived.by(() => {
    if (!said || !last || ends === Date.parse(trend.until)) return [];
    const now = { at: last.at, low: last.free, likely: last.free, high: last.free };
    return [now, ...said.cone.filter((c) => Date.parse(c.at) <= ends)];
  });
  const sudden = $derived(
    (said?.sudden ?? []).filter(
      (s) => Date.parse(s.at) >= Date.parse(trend.since) && Date.parse(s.at) <= ends
    )
  );
  const begun = $derived(
    trend.lines.slice(1).filter((l) => Date.parse(l.began_at) >= Date.parse(trend.since))
  );
  /** The point a keyboard is on, in words. */
  let on = $state(-1);
  const spoken = $derived.by(() => {
    const point = trend.points[on];
    if (!point) return '';
    return `${full(point.at)}: ${size(point.free)} free, ${share(point.capacity - point.free, point.capacity)} used`;
  });
  function onkeydown(event: KeyboardEvent) {
    const end = trend.points.length - 1;
    const step = event.shiftKey ? 10 : 1;
    if (event.key === 'ArrowLeft') on = Math.max(0, (on < 0 ? end + 1 : on) - step);
    else if (event.key === 'ArrowRight') on = Math.min(end, on + step);
    else if (event.key === 'Home') on = 0;
    else if (event.key === 'End') on = end;
    else return;
    event.preventDefault();
    chart?.dispatchAction({ type: 'showTip', seriesIndex: 0, dataIndex: on });
  }
  let chart: ReturnType<typeof init> | undefined;
  const threshold = $derived(last ? last.capacity * (1 - trend.threshold_percent / 100) : 0);

  function options() {
    const night = document.documentElement.dataset.mode === 'dark';
    const pick = (day: string, dark: string) => (night ? dark : day);
    const main = pick('#1f7a6d', '#6cc4b5');
    const look = pick('#865300', '#e6a844');
    const muted = pick('#55625f', '#9fb0ab');
    const line = pick('#d9d4c8', '#2a383b');
    const danger = pick('#a8322c', '#f08a80');
    const points = trend.points.map((p) => [Date.parse(p.at), p.free / GIB]);
    const freeAt = (at: number) => {
      let found = points[0]?.[1] ?? 0;
      for (const [x, y] of points) if ((x ?? 0) <= at) found = y ?? found;
      return found;
    };
    return {
      animation: false,
      aria: { enabled: true },
      textStyle: { fontFamily: FACE, color: muted },
      grid: { left: 64, right: 44, top: 16, bottom: 32 },
      tooltip: {
        trigger: 'axis',
        backgroundColor: pick('#fdfbf7', '#172327'),
        borderColor: line,
        textStyle: { color: pick('#1d2b2f', '#e6ece8') },
        formatter: (
          found: { seriesName: string; value: [number, number]; dataIndex: number }[]
        ) => {
          const shown = found.filter((f) => !f.seriesName.startsWith('cone'));
          const lines = shown.map((f) => {
            if (f.seriesName === 'likely') return `likely ${size(f.value[1] * GIB)} free`;
            if (f.seriesName === 'sudden') {
              const one = sudden[f.dataIndex];
              const grown = one?.grown.map((g) => `${g.name} ${signed(g.size)}`).join(', ');
              return `sudden: ${signed(one?.size ?? 0)} more used${grown ? ` (${grown})` : ''}`;
            }
            if (f.seriesName === 'cleaned') {
              const freed = trend.cleanings[f.dataIndex]?.freed;
              return `cleaned, ${size(freed)} freed`;
            }
            return `${size(f.value[1] * GIB)} free`;
          });
          const at = found[0] ? new Date(found[0].value[0]).toISOString() : '';
          return `${full(at).replace(/:\d\d$/, '')}<br>${lines.join('<br>')}`;
        }
      },
      xAxis: {
        type: 'time',
        splitNumber: 8,
        min: Date.parse(trend.since),
        max: ends,
        axisLine: { lineStyle: { color: line } },
        axisLabel: {
          color: muted,
          hideOverlap: true,
          fontFamily: FACE,
          fontSize: 12,
          formatter: { year: '{MMM} {yyyy}', month: '{MMM}', day: '{d} {MMM}', hour: '{HH}:{mm}' }
        },
        splitLine: { show: false }
      },
      yAxis: {
        type: 'value',
        min: 0,
        name: '',
        axisLabel: { color: muted, formatter: '{value} GiB' },
        splitLine: { lineStyle: { color: line } }
      },
      series: [
        {
          name: 'free',
          type: 'line',
          data: points,
          showSymbol: false,
          lineStyle: { color: main, width: 1.75 },
          itemStyle: { color: main },
          areaStyle: { color: main, opacity: 0.1 },
          markLine: {
            silent: true,
            symbol: 'none',
            lineStyle: { color: look, type: 'dashed' },
            label: {
              color: look,
              position: 'end',
              formatter: `${trend.threshold_percent} %`
            },
            data: [{ yAxis: threshold / GIB }]
          }
        },
        {
          name: 'cleaned',
          type: 'scatter',
          symbol: 'triangle',
          symbolSize: 9,
          itemStyle: { color: look },
          data: trend.cleanings.map((c) => [Date.parse(c.at), freeAt(Date.parse(c.at))])
        },
        {
          name: 'sudden',
          type: 'scatter',
          symbol: 'diamond',
          symbolSize: 11,
          itemStyle: { color: danger },
          data: sudden.map((s) => [Date.parse(s.at), freeAt(Date.parse(s.at))]),
          markLine: {
            silent: true,
            symbol: 'none',
            lineStyle: { color: muted, type: 'dotted' },
            label: { color: muted, formatter: 'new line' },
            data: begun.map((l) => ({ xAxis: Date.parse(l.began_at) }))
          }
        },
        {
          name: 'cone low',
          type: 'line',
          stack: 'cone',
          stackStrategy: 'all',
          silent: true,
          showSymbol: false,
          lineStyle: { opacity: 0 },
          data: cone.map((c) => [Date.parse(c.at), c.low / GIB])
        },
        {
          name: 'cone',
          type: 'line',
          stack: 'cone',
          stackStrategy: 'all',
          silent: true,
          showSymbol: false,
          lineStyle: { opacity: 0 },
          areaStyle: { color: muted, opacity: 0.22 },
          data: cone.map((c) => [Date.parse(c.at), (c.high - c.low) / GIB])
        },
        {
          name: 'likely',
          type: 'line',
          showSymbol: false,
          lineStyle: { color: muted, type: 'dotted', width: 2 },
          itemStyle: { color: muted },
          data: cone.map((c) => [Date.parse(c.at), c.likely / GIB])
        }
      ]
    };
  }

  $effect(() => {
    if (!frame || asTable) return;
    const drawn = init(frame, undefined, { renderer: 'svg' });
    chart = drawn;
    drawn.setOption(options());
    const sized = new ResizeObserver(() => drawn.resize());
    sized.observe(frame);
    const lamp = new MutationObserver(() => drawn.setOption(options()));
    lamp.observe(document.documentElement, { attributeFilter: ['data-mode'] });
    return () => {
      sized.disconnect();
      lamp.disconnect();
      drawn.dispose();
      chart = undefined;
    };
  });
</script>

<figure>
  {#if !trend.points.length}
    <p class="muted py-8">No readings in this span yet.</p>
  {:else if asTable}
    <div class="max-h-72 overflow-auto">
      <table class="sheet">
        <caption class="sr-only">Free space of {trend.mount}</caption>
        <thead><tr><th>when</th><th class="right">free</th><th class="right">used</th></tr></thead>
        <tbody>
          {#each cone.slice(1).toReversed() as point (point.at)}
            <tr class="muted">
              <td>{full(point.at)}, likely</td>
              <td class="right">{size(point.likely)} ({size(point.low)} to {size(point.high)})</td>
              <td class="right"
                >{share((last?.capacity ?? 0) - point.likely, last?.capacity ?? 1)}</td
              >
            </tr>
          {/each}
          {#each trend.points.toReversed() as point (point.at)}
            <tr>
              <td>{full(point.at)}</td>
              <td class="right">{size(point.free)}</td>
              <td class="right">{share(point.capacity - point.free, point.capacity)}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {:else}
    <!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
    <div
      role="application"
      tabindex="0"
      aria-label="Free space of {trend.mount}; arrow keys go from reading to reading"
      {onkeydown}
    >
      <div class="h-72" bind:this={frame}></div>
    </div>
    <p class="sr-only" aria-live="polite">{spoken}</p>
  {/if}
  <figcaption class="muted flex flex-wrap items-center justify-between gap-2 text-sm">
    <span>
      Free space of <code>{trend.mount}</code>; {count(trend.cleanings.length, 'cleaning')} marked ▲{#if sudden.length},
        {count(sudden.length, 'sudden change')} ◆{/if}; dashed: {trend.threshold_percent} % used{#if cone.length};
        grey: where eight of ten futures lie until {day(new Date(ends).toISOString())}{/if}
    </span>
    <button class="plain noprint" onclick={() => (asTable = !asTable)}>
      {asTable ? 'Show as a chart' : 'Show as a table'}
    </button>
  </figcaption>
</figure>
