<script lang="ts">
  import {
    DAYS,
    MONTHS,
    oftenOf,
    PLACES,
    UNITS,
    WEEKLY,
    wordsOf,
    type Day,
    type Often,
    type Place,
    type Unit
  } from './often';

  interface Props {
    /** In plain words; what is chosen here is written there. */
    words: string;
    /** The rule that the service reads in these words; null while it is not known. */
    rule: string | null;
  }
  let { words = $bindable(), rule }: Props = $props();

  const DATES = [...Array.from({ length: 31 }, (_, n) => n + 1), -1];
  let built = $state.raw<Often | null>(null);
  // what was chosen last counts until somebody types something else
  const often = $derived(built && wordsOf(built) === words ? built : oftenOf(rule));

  function choose(change: Partial<Often>) {
    const next = { ...(often ?? WEEKLY), ...change };
    built = next;
    words = wordsOf(next);
  }
  function toggle<T>(list: T[], item: T): T[] {
    return list.includes(item) ? list.filter((other) => other !== item) : [...list, item];
  }
  const number = (event: Event, most: number) =>
    Math.min(
      most,
      Math.max(1, Math.round(Number((event.currentTarget as HTMLInputElement).value)))
    );
  const chosen = (event: Event) => (event.currentTarget as HTMLSelectElement).value;
</script>

<div class="mt-3 space-y-3" role="group" aria-label="How often, chosen" data-testid="often">
  {#if !often}
    <p class="muted text-sm">
      {words.trim()
        ? 'These words cannot be chosen here, only typed.'
        : 'Without words it runs only when space is short.'}
      <button type="button" class="plain" onclick={() => choose({})}>Choose days of the week</button
      >
    </p>
  {:else}
    <div class="flex flex-wrap items-center gap-2">
      <span>every</span>
      <input
        class="box w-16"
        type="number"
        min="1"
        max="99"
        value={often.every}
        onchange={(event) => choose({ every: number(event, 99) || 1 })}
        aria-label="Every how many"
      />
      <select
        class="box w-28"
        value={often.unit}
        onchange={(event) => choose({ unit: chosen(event) as Unit })}
        aria-label="Days, weeks, months or years"
      >
        {#each UNITS as unit (unit)}
          <option value={unit}>{unit}{often.every === 1 ? '' : 's'}</option>
        {/each}
      </select>
      {#if often.unit === 'month'}
        <span>on</span>
        <select
          class="box w-44"
          value={often.on}
          onchange={(event) => choose({ on: chosen(event) as Often['on'] })}
          aria-label="On which day of the month"
        >
          <option value="start">the day it starts</option>
          <option value="dates">certain dates</option>
          <option value="place">a certain weekday</option>
        </select>
      {:else if often.unit === 'year'}
        <span>on</span>
        <select
          class="box w-44"
          value={String(often.month)}
          onchange={(event) =>
            choose({ month: Number(chosen(event)), dates: [often.dates[0] ?? 1] })}
          aria-label="In which month"
        >
          <option value="0">the day it starts</option>
          {#each MONTHS as month, n (month)}<option value={String(n + 1)}>{month}</option>{/each}
        </select>
        {#if often.month}
          <input
            class="box w-16"
            type="number"
            min="1"
            max="31"
            value={often.dates[0] ?? 1}
            onchange={(event) => choose({ dates: [number(event, 31) || 1] })}
            aria-label="Day of the month"
          />
        {/if}
      {/if}
    </div>
    {#if often.unit === 'week'}
      <div class="flex flex-wrap gap-1" role="group" aria-label="Days of the week">
        {#each Object.entries(DAYS) as [code, name] (code)}
          <button
            type="button"
            class="act"
            aria-pressed={often.days.includes(code as Day)}
            onclick={() => choose({ days: toggle(often.days, code as Day) })}>{name}</button
          >
        {/each}
      </div>
    {:else if often.unit === 'month' && often.on === 'dates'}
      <div class="dates" role="group" aria-label="Days of the month">
        {#each DATES as date (date)}
          <button
            type="button"
            class="act"
            aria-pressed={often.dates.includes(date)}
            onclick={() => choose({ dates: toggle(often.dates, date) })}
            >{date < 0 ? 'last' : date}</button
          >
        {/each}
      </div>
    {:else if often.unit === 'month' && often.on === 'place'}
      <div class="flex flex-wrap items-center gap-2">
        <span>the</span>
        <select
          class="box w-28"
          value={String(often.place)}
          onchange={(event) => choose({ place: Number(chosen(event)) as Place })}
          aria-label="Which one of the month"
        >
          {#each Object.entries(PLACES) as [place, name] (place)}
            <option value={place}>{name}</option>
          {/each}
        </select>
        <select
          class="box w-40"
          value={often.placeDay}
          onchange={(event) => choose({ placeDay: chosen(event) as Often['placeDay'] })}
          aria-label="Which day of the week"
        >
          {#each Object.entries(DAYS) as [code, name] (code)}
            <option value={code}>{name}</option>
          {/each}
          <option value="working day">working day</option>
        </select>
      </div>
    {/if}
    <div class="flex flex-wrap items-center gap-2">
      <span>ends</span>
      <select
        class="box w-40"
        value={often.ends}
        onchange={(event) => choose({ ends: chosen(event) as Often['ends'] })}
        aria-label="When it ends"
      >
        <option value="never">never</option>
        <option value="times">after so many times</option>
        <option value="until">with a day</option>
      </select>
      {#if often.ends === 'times'}
        <input
          class="box w-20"
          type="number"
          min="1"
          max="9999"
          value={often.times}
          onchange={(event) => choose({ times: number(event, 9999) || 1 })}
          aria-label="Times"
        />
      {:else if often.ends === 'until'}
        <input
          class="box"
          type="date"
          value={often.until}
          onchange={(event) => choose({ until: chosen(event) })}
          aria-label="Last day"
        />
      {/if}
    </div>
  {/if}
</div>

<style>
  .dates {
    display: grid;
    grid-template-columns: repeat(8, minmax(2.4rem, 1fr));
    gap: 4px;
    max-width: 26rem;
  }
  .dates :global(.act) {
    padding-inline: 0;
    justify-content: center;
  }
</style>
