<script lang="ts">
  import type { Trend } from '$lib/api/client';
  import { count, full, share, size } from '$lib/words';
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
  const threshold = $derived(last ? last.capacity * (1 - trend.threshold_percent / 100) : 0);

  function options() {
    const night = document.documentElement.dataset.mode === 'dark';
    const pick = (day: string, dark: string) => (night ? dark : day);
    const main = pick('#1f7a6d', '#6cc4b5');
    const look = pick('#865300', '#e6a844');
    const muted = pick('#55625f', '#9fb0ab');
    const line = pick('#d9d4c8', '#2a383b');
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
      grid: { left: 64, right: 24, top: 16, bottom: 32 },
      tooltip: {
        trigger: 'axis',
        backgroundColor: pick('#fdfbf7', '#172327'),
        borderColor: line,
        textStyle: { color: pick('#1d2b2f', '#e6ece8') },
        formatter: (
          found: { seriesName: string; value: [number, number]; dataIndex: number }[]
        ) => {
          const lines = found.map((f) => {
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
        max: Date.parse(trend.until),
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
              position: 'insideEndTop',
              formatter: `${trend.threshold_percent} % used`
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
        }
      ]
    };
  }

  $effect(() => {
    if (!frame || asTable) return;
    const chart = init(frame, undefined, { renderer: 'svg' });
    chart.setOption(options());
    const sized = new ResizeObserver(() => chart.resize());
    sized.observe(frame);
    const lamp = new MutationObserver(() => chart.setOption(options()));
    lamp.observe(document.documentElement, { attributeFilter: ['data-mode'] });
    return () => {
      sized.disconnect();
      lamp.disconnect();
      chart.dispose();
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
    <div class="h-64" bind:this={frame}></div>
  {/if}
  <figcaption class="muted flex flex-wrap items-center justify-between gap-2 text-sm">
    <span>
      Free space of <code>{trend.mount}</code>; {count(trend.cleanings.length, 'cleaning')} marked ▲
    </span>
    <button class="plain noprint" onclick={() => (asTable = !asTable)}>
      {asTable ? 'Show as a chart' : 'Show as a table'}
    </button>
  </figcaption>
</figure>
