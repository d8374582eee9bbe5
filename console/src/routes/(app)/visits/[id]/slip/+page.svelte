<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { page } from '$app/state';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import When from '$lib/components/When.svelte';
  import { day } from '$lib/visits/words';

  const number = $derived(Number(page.params.id) || 0);
  const asked = createQuery(() =>
    ask('/api/v2/visits/{number}/slip', {
      params: { path: { number }, query: { console: location.origin } }
    })
  );
  const slip = $derived(asked.data ?? null);
  const svg = (picture: string) => `data:image/svg+xml;utf8,${encodeURIComponent(picture)}`;
</script>

<svelte:head><title>Claim slip {number} – Phylax</title></svelte:head>

<div class="noprint flex flex-wrap items-center justify-between gap-4">
  <h1>Claim slip</h1>
  <span class="flex items-center gap-4">
    <a class="anchor" href="/visits/{number}">Go to the visit</a>
    <button class="act main" onclick={() => window.print()}>Print</button>
  </span>
</div>
{#if slip}
  {@const visit = slip.visit}
  <div class="paper mt-4" data-testid="slip">
    {#each ['for the client', 'stays with the machine'] as part (part)}
      <section aria-label="Part {part}">
        <header>
          <div>
            <p class="head">{slip.head || slip.shop}</p>
            <p class="number">{visit.id}</p>
            <p class="small">{part}</p>
          </div>
          <img src={svg(slip.picture)} alt="Opens {slip.address}" />
        </header>
        <p><strong>{visit.machine_tag}</strong> {slip.make_and_model} {slip.serial}</p>
        <p>{visit.client_name}{slip.contact ? `, ${slip.contact}` : ''} {slip.phone}</p>
        <p class="small">Checked in <When at={visit.opened_at} /> by {visit.opened_by}</p>
        {#if visit.reported_problem}<p>“{visit.reported_problem.slice(0, 600)}”</p>{/if}
        {#if visit.condition}<p>Condition: {visit.condition}</p>{/if}
        <p>Accessories: {visit.accessories || 'nothing'}</p>
        {#if visit.loaner}<p>Loan device: {visit.loaner}</p>{/if}
        {#if visit.due_on}<p>Due {day(visit.due_on)}</p>{/if}
        {#if visit.approval_limit !== null && visit.approval_limit !== undefined}
          <p><strong>We call you before spending more than {visit.approval_limit}.</strong></p>
        {/if}
        {#if slip.terms}<p class="small terms">{slip.terms}</p>{/if}
        <p class="signed">Signed</p>
      </section>
    {/each}
  </div>
{:else}<Failed query={asked} />{/if}

<style>
  .paper {
    background: white;
    color: black;
    max-width: 190mm;
    padding: 6mm;
  }
  .paper section {
    padding: 4mm 0;
    overflow-wrap: anywhere;
  }
  .paper section + section {
    border-top: 1px dashed #555;
  }
  header {
    display: flex;
    justify-content: space-between;
    gap: 4mm;
  }
  header img {
    width: 32mm;
    height: 32mm;
  }
  .number {
    font-size: 28pt;
    font-weight: 600;
    line-height: 1.1;
  }
  .small {
    font-size: 9pt;
    color: #333;
  }
  .head,
  .terms {
    white-space: pre-line;
  }
  .terms {
    font-size: 8pt;
  }
  .signed {
    margin-top: 8mm;
    border-top: 1px solid #555;
    width: 70mm;
    font-size: 9pt;
  }
</style>
