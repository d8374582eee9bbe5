<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import When from '$lib/components/When.svelte';

  interface Props {
    /** What reports are shown of. */
    of: { visit?: number; client_id?: number; machine?: string };
    /** What a new one is over, as its page's address says it. */
    over: string;
  }
  let { of, over }: Props = $props();
  const asked = createQuery(() =>
    ask('/api/v2/reports', { params: { query: { ...of, limit: 20 } } })
  );
</script>

<section class="noprint mt-8" aria-labelledby="reports">
  <div class="flex flex-wrap items-center justify-between gap-2">
    <h2 id="reports">Reports for the client</h2>
    <a class="act" href="/reports/new?{over}">Make a report</a>
  </div>
  {#if asked.data}
    <ul class="ruled mt-2" data-testid="reports">
      {#each asked.data as report (report.id)}
        <li class="flex flex-wrap justify-between gap-x-4 py-2">
          <a class="anchor" href="/reports/{report.id}">{report.title}</a>
          <span class="muted text-sm">
            {report.first} to {report.last}, made <When at={report.made_at} /> by {report.made_by}{report.sent_to
              ? `, sent to ${report.sent_to}`
              : ''}
          </span>
        </li>
      {:else}<li class="muted py-2">None was made yet.</li>{/each}
    </ul>
  {:else}<Failed query={asked} />{/if}
</section>
