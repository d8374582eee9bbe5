<script lang="ts">
  import { createInfiniteQuery } from '@tanstack/svelte-query';
  import { askPages, itemsOf } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import When from '$lib/components/When.svelte';

  const asked = createInfiniteQuery(() =>
    askPages('/api/v2/reports', { params: { query: { limit: 50 } } }, (last) => ({
      before: last.id
    }))
  );
  const reports = $derived(itemsOf(asked.data));
</script>

<svelte:head><title>Reports – Phylax</title></svelte:head>

<h1>Reports for clients</h1>
<p class="muted">A new one starts from a visit, a machine or a client.</p>
{#if asked.data}
  <table class="sheet cards mt-4">
    <thead>
      <tr>
        <th scope="col">Client</th><th scope="col">Report</th><th scope="col">Over</th>
        <th scope="col">Made</th><th scope="col">Sent to</th>
      </tr>
    </thead>
    <tbody>
      {#each reports as report (report.id)}
        <tr>
          <td>{report.client_name}</td>
          <td><a class="anchor" href="/reports/{report.id}">{report.title}</a></td>
          <td data-label="Over">{report.first} to {report.last}</td>
          <td data-label="Made"><When at={report.made_at} /> by {report.made_by}</td>
          <td data-label="Sent to">{report.sent_to}</td>
        </tr>
      {/each}
    </tbody>
  </table>
  {#if !reports.length}<p class="muted py-3">None was made yet.</p>{/if}
  {#if asked.hasNextPage}
    <button class="act mt-4" onclick={() => asked.fetchNextPage()}>More</button>
  {/if}
{:else}<Failed query={asked} />{/if}
