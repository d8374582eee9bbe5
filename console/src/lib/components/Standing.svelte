<script lang="ts">
  import { api, inWords, type LedgerLine, type Machine, type Schema } from '$lib/api/client';
  import When from './When.svelte';

  interface Props {
    machine: Machine;
    line: LedgerLine;
    given: Schema['StandingConsent'] | undefined;
    onchanged: () => void;
  }
  let { machine, line, given, onchanged }: Props = $props();
  let word = $state('');
  let problem = $state('');

  async function give() {
    const { error } = await api.POST('/api/v2/machines/{machine}/standing-consents', {
      params: { path: { machine: machine.tag } },
      headers: { 'Idempotency-Key': crypto.randomUUID() },
      body: { category: line.category, via: 'console', comment: word.trim() }
    });
    problem = error ? inWords(error) : '';
    onchanged();
  }
  async function takeBack() {
    if (!given) return;
    const { error } = await api.DELETE('/api/v2/standing-consents/{number}', {
      params: { path: { number: given.id } }
    });
    problem = error ? inWords(error) : '';
    onchanged();
  }
</script>

<div class="mt-4 border-t border-[var(--line)] pt-3">
  {#if given}
    <p>
      Standing consent by {given.given_by}, <When at={given.given_at} />{given.comment
        ? ` (${given.comment})`
        : ''}: what the rule proposes goes each time.
      <button class="plain" onclick={takeBack}>Take it back</button>
    </p>
  {:else}
    <div class="flex flex-wrap items-end gap-2">
      <label class="field min-w-56 flex-1">
        <span
          >Or a standing consent: whatever the rule proposes may go each time. What the client said:</span
        >
        <input class="box" bind:value={word} maxlength="400" placeholder="agreed in the contract" />
      </label>
      <button class="act" onclick={give}>Give a standing consent</button>
    </div>
  {/if}
  {#if problem}<p class="lossy">{problem}</p>{/if}
</div>
