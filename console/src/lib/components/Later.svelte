<script lang="ts">
  import { whenFree } from '$lib/later.svelte';
  import type { Snippet } from 'svelte';

  interface Props {
    children: Snippet;
    /** What stands in its place until then. */
    before?: Snippet;
  }
  let { children, before }: Props = $props();
  let drawn = $state(false);
  $effect(() => whenFree(() => (drawn = true)));
</script>

{#if drawn}{@render children()}{:else}{@render before?.()}{/if}
