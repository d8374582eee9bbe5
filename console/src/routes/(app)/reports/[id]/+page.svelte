<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { page } from '$app/state';
  import { api } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import When from '$lib/components/When.svelte';
  import Paper from '$lib/reports/Paper.svelte';

  const number = $derived(Number(page.params.id) || 0);
  const asked = createQuery(() =>
    ask('/api/v2/reports/{number}', { params: { path: { number } } })
  );
  const report = $derived(asked.data ?? null);
  const clientAsked = createQuery(() => ({
    ...ask('/api/v2/clients/{client_id}', {
      params: { path: { client_id: report?.client_id ?? 0 } }
    }),
    enabled: report !== null
  }));
  let typed = $state<string | null>(null);
  const to = $derived(typed ?? clientAsked.data?.mail ?? '');
  const sending = new Doing();

  async function send(event: SubmitEvent) {
    event.preventDefault();
    await sending.try<unknown>(
      () =>
        api.POST('/api/v2/reports/{number}/mail', {
          params: { path: { number } },
          headers: { 'Idempotency-Key': crypto.randomUUID() },
          body: { to }
        }),
      `It goes to ${to}.`
    );
    await refresh('/api/v2/reports/{number}', '/api/v2/reports', '/api/v2/records');
  }
</script>

<svelte:head><title>Report {number} – Phylax</title></svelte:head>

{#if report}
  <div class="noprint flex flex-wrap items-center justify-between gap-4">
    <div>
      <h1>Report {report.id}</h1>
      <p>
        <a class="anchor" href="/clients/{report.client_id}">{report.client_name}</a>, made
        <When at={report.made_at} /> by {report.made_by}{#if report.visit},
          <a class="anchor" href="/visits/{report.visit}">visit {report.visit}</a
          >{/if}{#if report.sent_at}, sent to {report.sent_to} <When at={report.sent_at} />{/if}
      </p>
    </div>
    <span class="flex items-center gap-4">
      <a class="anchor" href="/api/v2/reports/{number}/pdf" target="_blank" rel="noreferrer">PDF</a>
      {#if report.seal}
        <a class="anchor" href="/api/v2/reports/{number}/proofs" download>Proofs</a>
      {/if}
      <button class="act main" onclick={() => window.print()}>Print</button>
    </span>
  </div>
  <form class="noprint mt-4 flex flex-wrap items-end gap-3" onsubmit={send}>
    <label class="field">
      <span>Send it to</span>
      <input
        class="box w-72"
        type="email"
        required
        value={to}
        oninput={(event) => (typed = event.currentTarget.value)}
      />
    </label>
    <button class="act" disabled={sending.busy || !to}
      >{report.sent_at ? 'Send it again' : 'Send it'}</button
    >
    <Outcome of={sending} />
  </form>
  <div class="mt-6"><Paper document={report.document} /></div>
  {#if report.seal}
    <details class="noprint mt-4">
      <summary class="cursor-pointer">
        What it stands on: {report.entries.length} entries of the record, sealed
      </summary>
      <pre class="mt-2 overflow-x-auto text-xs">{report.seal}</pre>
    </details>
  {/if}
{:else}<Failed query={asked} />{/if}
