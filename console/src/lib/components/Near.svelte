<script lang="ts">
  import { whenNear } from '$lib/later.svelte';
  import type { Snippet } from 'svelte';

  interface Props {
    children: Snippet;
    /** A class that keeps about as much room as the part will take. */
    room: string;
  }
  let { children, room }: Props = $props();
  let place = $state<HTMLElement>();
  let drawn = $state(false);
  $effect(() => (place ? whenNear(place, () => (drawn = true)) : undefined));
</script>

{#if drawn}{@render children()}{:else}<div bind:this={place} class={room}></div>{/if}
