<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, inWords } from '$lib/api/client';
  import { ask } from '$lib/api/queries';
  import Modal from '$lib/components/Modal.svelte';
  import RuleFields from '$lib/components/RuleFields.svelte';
  import { draftOf, ruleOf, saysNothing, type RuleDraft } from '$lib/rule';
  import { count } from '$lib/words';
  import Scale from '@lucide/svelte/icons/scale';

  let { machineIds }: { machineIds: number[] } = $props();
  let open = $state(false);
  let category = $state('');
  let draft = $state<RuleDraft>(draftOf(null));
  let saving = $state(0);
  let done = $state('');
  let problem = $state('');
  const asked = createQuery(() => ({ ...ask('/api/v2/rules'), enabled: open }));
  const shopRule = $derived((asked.data ?? []).find((rule) => rule.category === category));
  const rule = $derived(ruleOf(draft));

  async function save(event: SubmitEvent) {
    event.preventDefault();
    let set = 0;
    let own = 0;
    problem = '';
    for (const id of machineIds) {
      saving = set + own + 1;
      const { error, response } = await api.PUT('/api/v2/rules/{scope}/{subject_id}/{category}', {
        params: { path: { scope: 'machine', subject_id: id, category } },
        body: rule
      });
      // a rule of its own is changed on the machine's page only, where one sees it
      if (response.status === 428) own += 1;
      else if (error) {
        problem = inWords(error);
        break;
      } else set += 1;
    }
    saving = 0;
    done =
      `The rule is set on ${count(set, 'machine')}.` +
      (own ? ` ${count(own, 'machine')} had a rule already and kept it.` : '');
    if (!problem) open = false;
  }
</script>

<button
  class="act"
  onclick={() => {
    open = true;
    done = '';
  }}><Scale aria-hidden="true" />Set a rule</button
>
{#if done && !open}<span role="status">{done}</span>{/if}
<Modal bind:open wide title="Set a rule on {count(machineIds.length, 'machine')}">
  <form class="space-y-4" onsubmit={save}>
    <label class="field">
      <span>Category</span>
      <select class="box" bind:value={category} required>
        <option value="">Choose a category</option>
        {#each asked.data ?? [] as choice (choice.category)}
          <option value={choice.category}>{choice.name}</option>
        {/each}
      </select>
    </label>
    {#if shopRule}
      <p>
        The shop's rule: {shopRule.in_words}. Each machine gets a rule of its own for this category.
      </p>
      <RuleFields
        bind:draft
        inForce={shopRule.in_force}
        category={shopRule.category}
        caution={shopRule.caution}
      />
    {/if}
    {#if done && open}<p role="status">{done}</p>{/if}
    {#if problem}<p class="lossy" role="alert">{problem}</p>{/if}
    <div class="flex gap-2">
      <button class="act main" disabled={!shopRule || saysNothing(rule) || saving > 0}>
        {saving ? `Setting ${saving} of ${machineIds.length}…` : 'Set the rule'}
      </button>
      <button type="button" class="act" onclick={() => (open = false)}>Cancel</button>
    </div>
  </form>
</Modal>
