<script lang="ts">
  import type { Schema } from '$lib/api/client';
  import { daysOf, full, stretch } from '$lib/words';

  interface Props {
    preview: Schema['RoundPreview'];
    /** Whether machines were chosen, so that what is said of them counts. */
    somebody: boolean;
    /** Take a proposed time of day. */
    ontake: (at: string) => void;
  }
  let { preview, somebody, ontake }: Props = $props();
</script>

<p data-testid="how-often">{preview.how_often}</p>
<ol class="ruled" data-testid="next-dates">
  {#each preview.next_dates as next (next)}
    <li class="py-1.5">{full(next).replace(/:\d\d$/, '')}</li>
  {/each}
</ol>
{#each preview.notes as note (note)}<p class="muted text-sm">{note}</p>{/each}
{#if somebody}
  {#if preview.expected_duration}
    <p class="muted text-sm">
      About {stretch(Math.round(86_400 * daysOf(preview.expected_duration)))} on a machine, by its earlier
      runs.
    </p>
  {/if}
  {#each preview.seldom_on as habit (habit.machine_id)}
    <p class="lookhere text-sm" data-testid="seldom-on">
      Rarely on: {habit.sentence}.
      {#if habit.proposed_at && !habit.proposed_day}
        {@const at = habit.proposed_at.slice(0, 5)}
        <button type="button" class="plain" onclick={() => ontake(at)}>Take {at}</button>
      {/if}
    </p>
  {/each}
  {#if preview.without_volumes.length}
    <p class="lookhere text-sm" data-testid="without-volumes">
      Has none of these volumes, so nothing would be done: {preview.without_volumes.join(', ')}.
    </p>
  {/if}
  {#if preview.too_long_for.length}
    <p class="lookhere text-sm">
      Will not finish before the window closes: {preview.too_long_for.join(', ')}.
    </p>
  {/if}
{/if}
