<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import SpansForm from '$lib/components/SpansForm.svelte';
  import { count } from '$lib/words';

  /** How long names are kept; figures are kept for good. */
  let { mayChange }: { mayChange: boolean } = $props();
  const asked = createQuery(() => ask('/api/v2/keeping'));
  let open = $state(false);
</script>

<section class="mt-8 max-w-3xl" aria-labelledby="keeping">
  <h2 id="keeping">How long names are kept</h2>
  {#if asked.data}
    {@const plan = asked.data}
    <p class="mt-2">
      Of files that went or were left: {count(plan.file_names_months ?? 24, 'month')}. In mails that
      went out: {count(plan.notices_months ?? 24, 'month')}. Of people who left the shop: {plan.staff_months
        ? count(plan.staff_months, 'month')
        : 'they stay'}. Figures are kept for good.
    </p>
    {#if mayChange && !open}
      <button class="act mt-3" onclick={() => (open = true)}>Change the spans</button>
    {:else if mayChange}
      <SpansForm spans={plan} onclose={() => (open = false)} />
      <p class="muted mt-2 text-sm">What is older than a shorter span goes at once, for good.</p>
    {/if}
  {:else}<Failed query={asked} />{/if}
</section>
