<script
  lang="ts"
  generics="T extends { version: number }, F extends Record<string, string | number | boolean | null>"
>
  import type { EditForm } from '$lib/api/editing.svelte';
  import type { Snippet } from 'svelte';
  import Conflict from './Conflict.svelte';
  import Outcome from './Outcome.svelte';

  interface Props {
    form: EditForm<T, F>;
    /** What the button says. */
    save?: string;
    /** After it was saved, in whichever way. */
    onsaved?: () => void;
    children?: Snippet;
  }
  let { form, save = 'Save', onsaved, children }: Props = $props();
</script>

<!-- The end of a form: its button, undo, and what somebody else changed meanwhile. -->
{#if form.conflict}
  {@const { ours, theirs } = form.versions}
  <Conflict
    changed={form.conflict}
    {ours}
    {theirs}
    onours={async () => (await form.saveOurs()) && onsaved?.()}
    ontheirs={() => form.takeTheirs()}
  />
{:else}
  <div class="flex flex-wrap items-center gap-3">
    <button class="act main" disabled={!form.isTouched || form.doing.busy}>{save}</button>
    {#if form.isTouched}
      <button type="button" class="act" onclick={() => form.reset()}>Undo</button>
    {/if}
    {@render children?.()}
  </div>
  <Outcome of={form.doing} />
{/if}
