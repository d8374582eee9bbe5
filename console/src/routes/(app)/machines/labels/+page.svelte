<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { page } from '$app/state';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import { count } from '$lib/words';

  /** Labels in sheets of 3 by 8, each 70 by 37 mm, as they are sold for printers. */
  const ids = $derived(
    [...new Set((page.url.searchParams.get('of') ?? '').split(',').map(Number))]
      .filter((id) => Number.isInteger(id) && id > 0)
      .slice(0, 300)
  );
  let skipped = $state(0);
  const asked = createQuery(() => ({
    ...ask('/api/v2/labels', { params: { query: { machine_id: ids, console: location.origin } } }),
    enabled: ids.length > 0
  }));
  const svg = (picture: string) => `data:image/svg+xml;utf8,${encodeURIComponent(picture)}`;
</script>

<svelte:head><title>Labels – Phylax</title></svelte:head>

<div class="noprint flex flex-wrap items-end justify-between gap-4">
  <div>
    <h1>Labels</h1>
    <p class="muted text-sm">
      For sheets of 24 labels, 70 × 37 mm, on A4; print without margins and at full size.
    </p>
  </div>
  <div class="flex items-end gap-3">
    <label class="field">
      <span>Labels gone from the first sheet</span>
      <input class="box w-24" type="number" min="0" max="23" bind:value={skipped} />
    </label>
    <button class="act main" onclick={() => window.print()}>Print</button>
  </div>
</div>
{#if asked.data}
  <p class="noprint muted mt-2" role="status">{count(asked.data.length, 'label')}</p>
  <div class="sheets mt-4">
    {#each { length: Math.max(0, Math.min(23, skipped || 0)) } as _, n (n)}<div
        class="label"
        aria-hidden="true"
      ></div>{/each}
    {#each asked.data as label (label.machine_id)}
      <div class="label" data-testid="label">
        <img src={svg(label.picture)} alt="Opens {label.address}" width="90" height="90" />
        <div class="words">
          <strong>{label.tag}</strong>
          <span>{label.client_name}</span>
          <span>{label.make_and_model}</span>
        </div>
      </div>
    {/each}
  </div>
{:else if ids.length}<Failed query={asked} />
{:else}<p class="mt-4">Choose machines first: on their page, or all of a client on theirs.</p>{/if}

<style>
  .sheets {
    display: grid;
    grid-template-columns: repeat(3, 70mm);
    grid-auto-rows: 37mm;
    overflow-x: auto;
  }
  .label {
    display: flex;
    align-items: center;
    gap: 2mm;
    padding: 3mm;
    overflow: hidden;
    outline: 1px dashed var(--line);
    background: white;
    color: black;
    break-inside: avoid;
  }
  .label:empty {
    background: none;
  }
  .label img {
    width: 28mm;
    height: 28mm;
    flex: none;
  }
  .words {
    display: flex;
    flex-direction: column;
    min-width: 0;
    font-size: 9pt;
    line-height: 1.25;
    overflow-wrap: anywhere;
  }
  .words strong {
    font-size: 12pt;
  }
  @media print {
    .label {
      outline: none;
    }
    .sheets {
      margin: 0;
    }
  }
  @page {
    margin: 0;
  }
</style>
