<script lang="ts">
  import { placeholders, type RuleDraft, type RuleInForce } from '$lib/rule';
  import Plus from '@lucide/svelte/icons/plus';
  import NumberField from './NumberField.svelte';
  import X from '@lucide/svelte/icons/x';

  interface Props {
    draft: RuleDraft;
    /** What counts where a field is left empty. */
    inForce: RuleInForce;
    category: string;
    caution: string;
  }
  let { draft = $bindable(), inForce, category, caution }: Props = $props();

  const listed = $derived(caution === 'report');
  const now = $derived(placeholders(inForce));
</script>

<div class="grid gap-x-6 gap-y-3 sm:grid-cols-2">
  <label class="field">
    <span>Clean this category?</span>
    <select class="box" bind:value={draft.off}>
      <option value="">as in the rule above it</option>
      <option value="no">{listed ? 'list it' : 'yes, by this rule'}</option>
      <option value="yes">{listed ? 'do not list it' : 'no: off'}</option>
    </select>
  </label>
  <NumberField
    label={listed ? 'List what is unused for days' : 'Keep for days; older goes'}
    bind:value={draft.days}
    placeholder={now.days}
    max={3650}
    step="any"
  />
  <NumberField
    label="Only larger than MiB"
    bind:value={draft.largerMiB}
    placeholder={now.larger}
    step="any"
  />
  {#if !listed}
    <NumberField
      label="Always keep the newest of each"
      bind:value={draft.newest}
      placeholder={now.newest}
      max={1000}
    />
    <NumberField
      label="Keep under MiB; the oldest go first"
      bind:value={draft.underMiB}
      placeholder={now.under}
      step="any"
    />
    <NumberField
      label="Keep under per cent of the volume"
      bind:value={draft.underPercent}
      placeholder={now.percent}
      max={90}
    />
    <NumberField
      label="Held for days before it goes for good"
      bind:value={draft.holdDays}
      placeholder={now.hold}
      max={90}
      step="any"
    />
    <NumberField
      label="What is held goes early below per cent free"
      bind:value={draft.holdYields}
      placeholder={now.yields}
      max={90}
    />
    {#if category === 'own-folders'}
      <label class="field sm:col-span-2">
        <span>Which folders, one in a line, as written on the machine</span>
        <textarea class="box" rows="2" bind:value={draft.folders} placeholder="C:\Scans"></textarea>
      </label>
    {/if}
    <fieldset class="sm:col-span-2">
      <legend class="muted text-sm">Shorter while the volume is short of space</legend>
      {#each draft.pressure as step, n (n)}
        <div class="mt-1 flex flex-wrap items-center gap-2">
          below
          <input
            class="box w-20"
            type="number"
            min="1"
            max="99"
            aria-label="Free share in per cent, step {n + 1}"
            bind:value={step.below}
          />
          % free, keep
          <input
            class="box w-20"
            type="number"
            min="0"
            max="3650"
            aria-label="Days, step {n + 1}"
            bind:value={step.days}
          />
          days
          <button
            type="button"
            class="act"
            aria-label="Remove step {n + 1}"
            onclick={() => (draft.pressure = draft.pressure.filter((_, i) => i !== n))}
            ><X aria-hidden="true" /></button
          >
        </div>
      {/each}
      <button
        type="button"
        class="act mt-1"
        onclick={() => {
          draft.saysPressure = true;
          draft.pressure = [...draft.pressure, { below: null, days: null }];
        }}><Plus aria-hidden="true" />Add a step</button
      >
    </fieldset>
  {/if}
</div>
<p class="muted mt-2 text-sm">
  Leave a field empty to use the value in grey. 0 removes a limit that is set above.
</p>
