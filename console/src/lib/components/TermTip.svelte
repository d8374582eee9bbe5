<script lang="ts">
  import { Tooltip } from '@skeletonlabs/skeleton-svelte';
  import { meanings } from '$lib/glossary';

  interface Props {
    /** Of the word's own element. */
    id: string;
    of: string;
    open: boolean;
    onenter: () => void;
    onleave: () => void;
  }
  let { id, of, open, onenter, onleave }: Props = $props();

  /** Not at the end of the body, where who reads by landmarks would miss it (its symbols would take
   * it there, its entries do not), and not in the heading whose word it explains. */
  function intoContent(node: HTMLElement) {
    document.getElementById('content')?.append(node);
    return () => node.remove();
  }
</script>

<Tooltip
  {open}
  interactive
  closeOnScroll={false}
  closeOnEscape={false}
  ids={{ trigger: id, content: `${id}-meaning` }}
  positioning={{ placement: 'top' }}
>
  <Tooltip.Positioner>
    {#snippet element(attributes)}
      <div {...Object.fromEntries(Object.entries(attributes))} {@attach intoContent}>
        {@render meaning()}
      </div>
    {/snippet}
  </Tooltip.Positioner>
</Tooltip>

{#snippet meaning()}
  {#if open}
    <Tooltip.Content
      class="relative z-60 max-w-80 rounded-md border border-[var(--line)] bg-[var(--raised)] px-3 py-2 text-sm shadow-xl"
      onpointerenter={onenter}
      onpointerleave={onleave}
    >
      <strong>{of}</strong>: {meanings[of]}
    </Tooltip.Content>
  {/if}
{/snippet}
