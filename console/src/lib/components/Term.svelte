<script lang="ts">
  import type { Snippet } from 'svelte';
  import type TermTipType from './TermTip.svelte';

  interface Props {
    /** The word, as the glossary has it. */
    of: string;
    /** The same as it reads here; left out, the word itself. */
    children?: Snippet;
  }
  let { of, children }: Props = $props();
  const id = $props.id();

  // what words mean is fetched when somebody first asks for one
  let TermTip = $state<typeof TermTipType>();
  let open = $state(false);
  let leaving: ReturnType<typeof setTimeout> | undefined;
  async function show() {
    clearTimeout(leaving);
    open = true;
    TermTip ??= (await import('./TermTip.svelte')).default;
  }
  /** The pointer may go over to the meaning. */
  function hideSoon() {
    leaving = setTimeout(() => (open = false), 200);
  }
  function onkeydown(event: KeyboardEvent) {
    if (event.key !== 'Escape' || !open) return;
    // a dialogue around it stays
    event.stopPropagation();
    open = false;
  }
</script>

<button
  {id}
  type="button"
  class="term"
  aria-describedby={open ? `${id}-meaning` : undefined}
  onpointerenter={show}
  onpointerleave={hideSoon}
  onfocus={show}
  onblur={() => (open = false)}
  onclick={show}
  {onkeydown}
  >{#if children}{@render children()}{:else}{of}{/if}</button
>{#if TermTip}<TermTip {id} {of} {open} onenter={show} onleave={hideSoon} />{/if}

<style>
  .term {
    font: inherit;
    color: inherit;
    text-align: inherit;
    text-decoration: underline dotted;
    text-underline-offset: 0.2em;
    cursor: help;
  }
</style>
