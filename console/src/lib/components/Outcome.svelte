<script lang="ts">
  import type { Doing } from '$lib/api/doing.svelte';

  let { of }: { of: Doing } = $props();
</script>

{#if of.problem}<p class="lossy mt-2" role="alert">{of.problem}</p>{/if}
{#if of.said}<p class="mt-2" role="status">{of.said}</p>{/if}
