<script lang="ts">
  import type { Snippet } from 'svelte';

  interface Props {
    /** What the button says. */
    name: string;
    open?: boolean;
    children: Snippet;
  }
  let { name, open = $bindable(false), children }: Props = $props();

  // its script is fetched when the first one is opened, and no page waits for it
  let wasOpen = $state(false);
  const load = () => import('./PanelPopover.svelte');
  $effect(() => {
    if (open) wasOpen = true;
  });
</script>

{#snippet button()}
  <button class="act" aria-haspopup="dialog" aria-expanded={open} onclick={() => (open = true)}
    >{name}</button
  >
{/snippet}

{#if wasOpen}
  {#await load()}{@render button()}{:then { default: PanelPopover }}
    <PanelPopover {name} bind:open>{@render children()}</PanelPopover>
  {:catch}{@render button()}{/await}
{:else}{@render button()}{/if}
