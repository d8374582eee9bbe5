<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import { count } from '$lib/words';

  /** How long names are kept; figures are kept for good. */
  let { mayChange }: { mayChange: boolean } = $props();
  const asked = createQuery(() => ask('/api/v1/keeping'));
  const doing = new Doing();
  let open = $state(false);
  let files = $state(24);
  let notices = $state(24);
  let staff = $state<number | null>(null);

  function change() {
    files = asked.data?.file_names_months ?? 24;
    notices = asked.data?.notices_months ?? 24;
    staff = asked.data?.staff_months ?? null;
    open = true;
  }
  async function save(event: SubmitEvent) {
    event.preventDefault();
    const headers = { 'If-Match': `"${asked.data?.version}"` };
    const body = { file_names_months: files, notices_months: notices, staff_months: staff };
    const isDone = await doing.try<unknown>(() => api.PUT('/api/v1/keeping', { headers, body }));
    if (isDone) open = false;
    await refresh('/api/v1/keeping');
  }
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
      <button class="act mt-3" onclick={change}>Change the spans</button>
    {:else if mayChange}
      <form class="mt-3 flex flex-wrap items-end gap-3" onsubmit={save}>
        <label class="field">
          <span>Files, months</span>
          <input class="box w-28" type="number" min="1" max="240" required bind:value={files} />
        </label>
        <label class="field">
          <span>Mails, months</span>
          <input class="box w-28" type="number" min="1" max="240" required bind:value={notices} />
        </label>
        <label class="field">
          <span>People who left, months (empty: they stay)</span>
          <input class="box w-28" type="number" min="1" max="240" bind:value={staff} />
        </label>
        <button class="act main" disabled={doing.busy}>Keep them so long</button>
        <button type="button" class="act" onclick={() => (open = false)}>Not now</button>
      </form>
      <p class="muted mt-2 text-sm">What is older than a shorter span goes at once, for good.</p>
    {/if}
    <Outcome of={doing} />
  {:else}<Failed query={asked} />{/if}
</section>
