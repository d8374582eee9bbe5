<script lang="ts">
  import { Popover, Portal } from '@skeletonlabs/skeleton-svelte';
  import type { Snippet } from 'svelte';

  interface Props {
    /** What the button says. */
    name: string;
    open?: boolean;
    children: Snippet;
  }
  let { name, open = $bindable(false), children }: Props = $props();
</script>

<Popover
  {open}
  onOpenChange={(change) => (open = change.open)}
  positioning={{ placement: 'bottom-end' }}
>
  <Popover.Trigger class="act">{name}</Popover.Trigger>
  <Portal>
    <Popover.Positioner>
      <Popover.Content
        class="relative z-60 max-h-[70vh] max-w-[92vw] overflow-auto rounded-md border border-[var(--line)] bg-[var(--raised)] p-4 shadow-xl"
      >
        <Popover.Title class="sr-only">{name}</Popover.Title>
        {#if open}{@render children()}{/if}
      </Popover.Content>
    </Popover.Positioner>
  </Portal>
</Popover>
