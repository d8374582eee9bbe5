<script lang="ts">
  import type { Snippet } from 'svelte';

  interface Props {
    open: boolean;
    title: string;
    wide?: boolean;
    widest?: boolean;
    /** Where the focus goes when it is closed, if not to where it was. */
    focusAfter?: () => HTMLElement | null;
    children: Snippet;
  }
  let {
    open = $bindable(),
    title,
    wide = false,
    widest = false,
    focusAfter,
    children
  }: Props = $props();

  // its script is fetched when the first one is opened, and no page waits for it
  let wasOpen = $state(false);
  // what had the focus when it was opened, before anybody can have moved on
  let opener: HTMLElement | null = null;
  $effect(() => {
    if (!open) return;
    wasOpen = true;
    opener = document.activeElement instanceof HTMLElement ? document.activeElement : null;
  });
  const goesBackTo = () => focusAfter?.() ?? (opener?.isConnected ? opener : null);
</script>

{#if wasOpen}
  {#await import('./ModalDialog.svelte') then { default: ModalDialog }}
    <ModalDialog
      bind:open
      {title}
      focusAfter={goesBackTo}
      size={widest ? 'max-w-6xl' : wide ? 'max-w-4xl' : 'max-w-xl'}
    >
      {@render children()}
    </ModalDialog>
  {/await}
{/if}
