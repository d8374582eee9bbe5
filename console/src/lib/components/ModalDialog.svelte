<script lang="ts">
  import { Dialog, Portal } from '@skeletonlabs/skeleton-svelte';
  import X from '@lucide/svelte/icons/x';
  import type { Snippet } from 'svelte';

  interface Props {
    open: boolean;
    title: string;
    /** The class of its greatest width. */
    size: string;
    focusAfter?: () => HTMLElement | null;
    children: Snippet;
  }
  let { open = $bindable(), title, size, focusAfter, children }: Props = $props();
</script>

<Dialog {open} finalFocusEl={focusAfter} onOpenChange={(change) => (open = change.open)}>
  <Portal>
    <Dialog.Backdrop class="fixed inset-0 z-40 bg-black/50" />
    <Dialog.Positioner class="fixed inset-0 z-50 flex items-center justify-center p-2 sm:p-4">
      <Dialog.Content
        class="max-h-[94vh] w-full overflow-auto rounded-md border border-[var(--line)] bg-[var(--raised)] p-4 shadow-xl sm:p-6 {size}"
      >
        <div class="mb-4 flex items-start justify-between gap-4">
          <Dialog.Title class="text-xl font-semibold">{title}</Dialog.Title>
          <Dialog.CloseTrigger class="act" aria-label="Close">
            <X aria-hidden="true" />
          </Dialog.CloseTrigger>
        </div>
        {@render children()}
      </Dialog.Content>
    </Dialog.Positioner>
  </Portal>
</Dialog>
