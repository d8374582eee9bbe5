<script lang="ts">
  import type { Machine, Schema } from '$lib/api/client';
  import type { Doing } from '$lib/api/doing.svelte';
  import Failed from '$lib/components/Failed.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import { useMay } from '$lib/session';
  import type { ComponentProps, Snippet } from 'svelte';
  import type { Scope, Says } from './rule';
  import { lineInWords } from './whatIf';

  type Failing = ComponentProps<typeof Failed>['query'];
  interface Props {
    machine: Machine;
    scope: Scope;
    says: Says;
    putRight: boolean;
    /** What the scope says so far, in words; null: it is still asked. */
    now: string | null;
    asked: Failing;
    /** What the rule would change, as it stands in the form. */
    would: Failing & { data?: Schema['RuleWhatIf'] };
    doing: Doing;
    onsave: () => void;
    /** The words before what it is to be, and the field for that. */
    wish: string;
    children: Snippet;
    /** What decides where it says nothing. */
    otherwise: string;
    note?: string;
  }
  let {
    machine,
    scope = $bindable(),
    says = $bindable(),
    putRight = $bindable(),
    now,
    asked,
    would,
    doing,
    onsave,
    wish,
    children,
    otherwise,
    note
  }: Props = $props();
  const may = useMay();
</script>

<form
  class="space-y-4"
  onsubmit={(event) => {
    event.preventDefault();
    onsave();
  }}
>
  <label class="field">
    <span>Holds for</span>
    <select class="box" bind:value={scope}>
      <option value="machine">{machine.tag}</option>
      <option value="client">all of {machine.client_name}</option>
      {#if may.own}<option value="shop">the whole shop</option>{/if}
    </select>
  </label>
  {#if now !== null}
    <p class="muted text-sm" data-testid="rule-now">{now}</p>
  {:else}<Failed query={asked} />{/if}
  <fieldset class="space-y-2">
    <legend class="sr-only">What it says</legend>
    <label class="flex items-center gap-2">
      <input type="radio" name="says" value="leave" bind:group={says} /> It was asked for: it stays as
      it is
    </label>
    <div class="flex flex-wrap items-center gap-2">
      <label class="flex items-center gap-2">
        <input type="radio" name="says" value="want" bind:group={says} />
        {wish}
      </label>
      {@render children()}
    </div>
    {#if says === 'want'}
      <label class="ml-7 flex items-center gap-2">
        <input type="checkbox" bind:checked={putRight} /> rounds set it again when something else altered
        it, three times at most
      </label>
    {/if}
    <label class="flex items-center gap-2">
      <input type="radio" name="says" value="nothing" bind:group={says} /> Nothing: {otherwise}
    </label>
  </fieldset>
  <div data-testid="rule-what-if" role="status" class="min-h-12">
    {#if would.data}
      {@const { now: before, then } = would.data}
      {#if then}
        <p>With it: <strong>{lineInWords(then)}</strong>.</p>
        {#if before}<p class="muted text-sm">As it is now: {lineInWords(before)}.</p>{/if}
      {:else}<p class="muted">It was seen on none of these machines yet.</p>{/if}
    {:else}<Failed query={would} />{/if}
  </div>
  {#if note}<p class="muted text-sm">{note}</p>{/if}
  <Outcome of={doing} />
  <div class="flex justify-end">
    <button class="act main" disabled={doing.busy || now === null}>Save the rule</button>
  </div>
</form>
