<script lang="ts">
  import type { Schema } from '$lib/api/client';
  import When from '$lib/components/When.svelte';
  import { pieces } from './kinds';

  let { hit, words }: { hit: Schema['Hit']; words: string } = $props();
</script>

{#snippet marked(text: string)}
  {#each pieces(text, words) as piece, at (at)}{#if piece.fits}<mark>{piece.text}</mark
      >{:else}{piece.text}{/if}{/each}
{/snippet}

<div class="flex flex-wrap justify-between gap-x-4">
  <span class="break-words">
    <a class="anchor" href={hit.page}>{@render marked(hit.title)}</a>
    {#if hit.machine_tag && hit.machine_tag !== hit.title}
      <a class="anchor" href="/machines/{hit.machine_tag}">{hit.machine_tag}</a>
    {/if}
    {#if hit.client_name && hit.client_name !== hit.title}
      <span class="muted">{hit.client_name}</span>
    {/if}
  </span>
  {#if hit.at}<span class="muted text-sm"><When at={hit.at} /></span>{/if}
</div>
{#if hit.line}<p class="text-sm break-words">{@render marked(hit.line)}</p>{/if}

<style>
  mark {
    background: none;
    color: inherit;
    font-weight: 700;
    text-decoration: underline;
    text-decoration-thickness: 1px;
  }
</style>
