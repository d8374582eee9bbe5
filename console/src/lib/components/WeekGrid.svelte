<script lang="ts">
  import type { AgendaLine } from '$lib/api/client';
  import { clock, dayName, later, local, today } from '$lib/words';

  interface Props {
    lines: AgendaLine[];
    /** How many of the machines are usually on: 7 days from Monday, 24 hours. */
    shares?: number[][];
  }
  let { lines, shares }: Props = $props();

  const HOURS = Array.from({ length: 24 }, (_, hour) => hour);
  const days = $derived(Array.from({ length: 7 }, (_, n) => later(today(), n)));
  const weekday = (day: string) => (new Date(`${day}T12:00:00Z`).getUTCDay() + 6) % 7;

  interface Piece {
    key: string;
    from: number;
    to: number;
    window: boolean;
    /** Whether it began the day before, and goes on the day after. */
    fromBefore: boolean;
    toNext: boolean;
    line: AgendaLine;
  }
  /** What of a stretch of time lies on one day, in hours. */
  function pieces(day: string): Piece[] {
    const found: Piece[] = [];
    for (const line of lines) {
      const spans: [string, boolean][] = [[line.ends_at, false]];
      if (line.closes_at) spans.unshift([line.closes_at, true]);
      for (const [ends, window] of spans) {
        const a = local(line.opens_at);
        const b = local(ends);
        if (day < a.day || day > b.day) continue;
        const from = day === a.day ? a.hour : 0;
        const to = day === b.day ? b.hour : 24;
        if (to > from)
          found.push({
            key: `${line.round_id} ${line.opens_at} ${window}`,
            from,
            to: window ? to : Math.max(to, from + 0.35),
            window,
            fromBefore: a.day < day,
            toNext: b.day > day && b.hour + (b.day > later(day, 1) ? 24 : 0) > 0,
            line
          });
      }
    }
    return found;
  }
  function told(piece: Piece): string {
    const ends = piece.window ? (piece.line.closes_at ?? '') : piece.line.ends_at;
    const [from, to] = [local(piece.line.opens_at).day, local(ends).day];
    const over = from === to ? '' : ` on ${dayName(to)}`;
    const since = from === to ? '' : ` on ${dayName(from)}`;
    return `${piece.line.round_name}, ${clock(new Date(piece.line.opens_at))}${since} to ${clock(
      new Date(ends)
    )}${over}${piece.window ? ', window' : ', expected'}`;
  }
</script>

<div class="mt-4 overflow-x-auto" data-testid="week">
  <div class="week" role="list" aria-label="The next seven days by hour">
    <span></span>
    <div class="hours muted text-xs" aria-hidden="true">
      {#each HOURS as hour (hour)}<span>{hour % 3 === 0 ? hour : ''}</span>{/each}
    </div>
    {#each days as day (day)}
      <span class="pr-3 text-sm whitespace-nowrap">{dayName(day)}</span>
      <div class="day" role="listitem" aria-label={dayName(day)}>
        {#each HOURS as hour (hour)}
          <span class="cell" style:--on="{Math.round(100 * (shares?.[weekday(day)]?.[hour] ?? 0))}%"
          ></span>
        {/each}
        {#each pieces(day) as piece (piece.key)}
          <a
            class={piece.window ? 'window' : 'length'}
            class:before={piece.fromBefore}
            class:next={piece.toNext}
            href="/rounds/{piece.line.round_id}"
            title={told(piece)}
            aria-label={told(piece)}
            style:left="{(100 * piece.from) / 24}%"
            style:width="{(100 * (piece.to - piece.from)) / 24}%"
          ></a>
        {/each}
      </div>
    {/each}
  </div>
</div>
<p class="muted mt-2 flex flex-wrap gap-x-5 text-sm">
  <span><i class="key filled"></i>expected length</span>
  <span><i class="key framed"></i>window in which it may run</span>
  <span><i class="key framed overnight"></i>goes on after midnight</span>
  {#if shares}<span><i class="key shaded"></i>the machines are usually on</span>{/if}
</p>

<style>
  .week {
    display: grid;
    grid-template-columns: auto minmax(36rem, 1fr);
    align-items: center;
    row-gap: 3px;
  }
  .hours,
  .day {
    display: grid;
    grid-template-columns: repeat(24, 1fr);
  }
  .day {
    position: relative;
    height: 2.1rem;
    border-block: 1px solid var(--line);
  }
  .cell {
    background: color-mix(in srgb, var(--part-goes) calc(var(--on) * 0.3), transparent);
    border-left: 1px solid color-mix(in srgb, var(--line) 60%, transparent);
  }
  .window,
  .length {
    position: absolute;
    border-radius: 3px;
  }
  .window {
    top: 3px;
    bottom: 3px;
    border: 1.5px solid currentColor;
    opacity: 0.75;
  }
  .before {
    border-top-left-radius: 0;
    border-bottom-left-radius: 0;
  }
  .window.before {
    border-left: 3px dotted currentColor;
  }
  .next {
    border-top-right-radius: 0;
    border-bottom-right-radius: 0;
  }
  .window.next {
    border-right: 3px dotted currentColor;
  }
  .length {
    top: 9px;
    bottom: 9px;
    min-width: 5px;
    background: var(--part-asks);
  }
  .key {
    display: inline-block;
    width: 1.4em;
    height: 0.8em;
    margin-right: 0.35em;
    border-radius: 3px;
  }
  .filled {
    background: var(--part-asks);
  }
  .framed {
    border: 1.5px solid currentColor;
  }
  .overnight {
    border-right: 3px dotted currentColor;
    border-top-right-radius: 0;
    border-bottom-right-radius: 0;
  }
  .shaded {
    background: color-mix(in srgb, var(--part-goes) 30%, transparent);
  }
</style>
