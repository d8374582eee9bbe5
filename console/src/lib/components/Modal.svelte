<script lang="ts">
  import { Dialog, Portal } from '@skeletonlabs/skeleton-svelte';
  import type { Snippet } from 'svelte';

  interface Props {
    open: boolean;
    title: string;
    wide?: boolean;
    widest?: boolean;
    children: Snippet;
  }
  let { open = $bindable(), title, wide = false, widest = false, children }: Props = $props();
</script>

<Dialog {open} onOpenChange={(change) => (open = change.open)}>
  <Portal>
    <Dialog.Backdrop class="fixed inset-0 z-40 bg-black/50" />
    <Dialog.Positioner class="fixed inset-0 z-50 flex items-center justify-center p-4">
      <Dialog.Content
        class="max-h-[90vh] w-full overflow-auto rounded-md border border-[var(--line)] bg-[var(--raised)] p-6 shadow-xl {widest
          ? 'max-w-6xl'
          : wide
            ? 'max-w-4xl'
            : 'max-w-xl'}"
      >
        <Dialog.Title class="mb-4 text-xl font-semibold">{title}</Dialog.Title>
        {@render children()}
      </Dialog.Content>
    </Dialog.Positioner>
  </Portal>
</Dialog>
