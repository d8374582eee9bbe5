<script lang="ts">
  import type { Snippet } from 'svelte';

  interface Props {
    open: boolean;
    title: string;
    wide?: boolean;
    widest?: boolean;
    children: Snippet;
  }
  let { open = $bindable(), title, wide = false, widest = false, children }: Props = $props();

  // its script is fetched when the first one is opened, and no page waits for it
  let wasOpen = $state(false);
  $effect(() => {
    if (open) wasOpen = true;
  });
</script>

{#if wasOpen}
  {#await import('./ModalDialog.svelte') then { default: ModalDialog }}
    <ModalDialog bind:open {title} size={widest ? 'max-w-6xl' : wide ? 'max-w-4xl' : 'max-w-xl'}>
      {@render children()}
    </ModalDialog>
  {/await}
{/if}
