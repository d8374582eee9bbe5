<script lang="ts">
  import { api, inWords, type Schema } from '$lib/api/client';
  import {
    draftOf,
    ruleOf,
    saysNothing,
    type RuleDraft,
    type RuleInForce,
    type Scope
  } from '$lib/rule';
  import { untrack } from 'svelte';
  import RuleFields from './RuleFields.svelte';
  import WhatIf from './WhatIf.svelte';

  interface Props {
    category: string;
    caution: string;
    inForce: RuleInForce;
    scope: Scope;
    subject: number;
    onsaved: () => void;
    oncancel: () => void;
  }
  let { category, caution, inForce, scope, subject, onsaved, oncancel }: Props = $props();

  let said = $state<Schema['ScopedRule'] | null>(null);
  let etag = $state<string | null>(null);
  let draft = $state<RuleDraft>(draftOf(null));
  let problem = $state('');
  let changed = $state(false);
  let saving = $state(false);
  let ready = $state(false);
  const path = $derived({ scope, subject_id: subject, category });

  async function load() {
    const key = whose;
    const known = await api.GET('/api/v1/rules/{scope}/{subject_id}/{category}', {
      params: { path }
    });
    if (known.error && known.response.status !== 404) {
      problem = inWords(known.error);
      return;
    }
    if (key !== whose) return;
    said = known.data ?? null;
    etag = known.response.headers.get('ETag');
    changed = false;
    problem = '';
    draft = draftOf(said?.rule);
    ready = true;
  }
  // by its value: a list that is asked for anew is no reason to lose what somebody is typing
  const whose = $derived(`${scope}/${subject}/${category}`);
  $effect(() => {
    void whose;
    untrack(() => void load());
  });

  async function save(event: SubmitEvent) {
    event.preventDefault();
    saving = true;
    const rule = ruleOf(draft);
    const headers = etag ? { 'If-Match': etag } : {};
    const { error, response } = saysNothing(rule)
      ? said
        ? await api.DELETE('/api/v1/rules/{scope}/{subject_id}/{category}', {
            params: { path },
            headers
          })
        : { error: undefined, response: undefined }
      : await api.PUT('/api/v1/rules/{scope}/{subject_id}/{category}', {
          params: { path },
          headers,
          body: rule
        });
    saving = false;
    changed = response?.status === 412;
    problem = error ? inWords(error) : '';
    if (!error) onsaved();
  }
</script>

{#if ready}
  <form class="space-y-4" onsubmit={save}>
    <div class="grid gap-x-8 gap-y-4 lg:grid-cols-2">
      <div><RuleFields bind:draft {inForce} {category} {caution} /></div>
      {#if caution !== 'report'}
        <WhatIf {category} {scope} {subject} rule={ruleOf(draft)} />
      {/if}
    </div>
    {#if problem}
      <p class="lossy" role="alert">
        {problem}
        {#if changed}
          <button type="button" class="plain" onclick={load}>Show their version</button>
        {/if}
      </p>
    {/if}
    <div class="flex flex-wrap justify-end gap-2">
      <button type="button" class="act" onclick={oncancel}>Leave as it is</button>
      <button class="act main" disabled={saving}>{saving ? 'Saving…' : 'Save the rule'}</button>
    </div>
  </form>
{:else if problem}
  <p class="lossy flex flex-wrap items-center gap-3" role="alert">
    {problem}
    <button type="button" class="act" onclick={load}>Try again</button>
  </p>
{/if}
