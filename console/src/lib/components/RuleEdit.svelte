<script lang="ts">
  import { api, inWords, type LedgerLine, type Machine } from '$lib/api/client';
  import { daysOf } from '$lib/words';
  import Modal from './Modal.svelte';

  interface Props {
    open: boolean;
    machine: Machine;
    line: LedgerLine;
    onsaved: () => void;
  }
  let { open = $bindable(), machine, line, onsaved }: Props = $props();

  let off = $derived(line.rule.off);
  let days = $derived(daysOf(line.rule.keep_for));
  let problem = $state('');
  let saving = $state(false);

  async function save(event: SubmitEvent) {
    event.preventDefault();
    saving = true;
    problem = '';
    const path = { scope: 'machine' as const, subject_id: machine.id, category: line.category };
    const known = await api.GET('/api/v1/rules/{scope}/{subject_id}/{category}', {
      params: { path }
    });
    const etag = known.response.headers.get('ETag');
    const { error } = await api.PUT('/api/v1/rules/{scope}/{subject_id}/{category}', {
      params: { path },
      headers: etag ? { 'If-Match': etag } : {},
      body: { off, keep_for: `P${Math.max(0, Math.round(days))}D` }
    });
    saving = false;
    if (error) {
      problem = inWords(error);
      return;
    }
    open = false;
    onsaved();
  }
</script>

<Modal bind:open title="{line.name} on {machine.tag}">
  <form class="space-y-4" onsubmit={save}>
    <p>
      Now: {line.rule_in_words}, from the {line.rule.off
        ? line.rule.off_from
        : line.rule.keep_for_from}.
    </p>
    <label class="flex items-center gap-2">
      <input type="checkbox" bind:checked={off} /> Off: nothing of it goes from this machine
    </label>
    <label class="field">
      <span>Keep for this many days; older goes{line.caution === 'ask' ? ', after a yes' : ''}</span
      >
      <input
        class="box max-w-32"
        type="number"
        min="0"
        max="3650"
        bind:value={days}
        disabled={off}
      />
    </label>
    <p class="muted text-sm">
      Counts for this machine alone, from the next look on. {line.cost}
    </p>
    {#if problem}<p class="lossy">{problem}</p>{/if}
    <div class="flex justify-end gap-2">
      <button type="button" class="act" onclick={() => (open = false)}>Leave as it is</button>
      <button class="act main" disabled={saving}>{saving ? 'Saving…' : 'Save the rule'}</button>
    </div>
  </form>
</Modal>
