<script lang="ts">
  import Term from '$lib/components/Term.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import LetterheadForm from '$lib/reports/LetterheadForm.svelte';
  import MarkForm from '$lib/reports/MarkForm.svelte';
  import { useMay } from '$lib/session';

  const may = useMay();
  const asked = createQuery(() => ask('/api/v2/letterhead'));
</script>

<svelte:head><title>Letterhead – Phylax</title></svelte:head>

<h1><Term of="letterhead">Letterhead</Term></h1>
<p class="muted mt-1">It stands on reports for clients and on claim slips.</p>
{#if asked.data}
  {#if may.own}
    <LetterheadForm letterhead={asked.data} />
    <MarkForm letterhead={asked.data} />
  {:else}
    <p class="mt-4 whitespace-pre-wrap">{asked.data.head}</p>
    <p class="muted mt-2">The owner changes it.</p>
  {/if}
{:else}<Failed query={asked} />{/if}
