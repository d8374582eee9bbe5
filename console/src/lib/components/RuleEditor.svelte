<script lang="ts">
  import { api, inWords, type Schema } from '$lib/api/client';
  import {
    draftOf,
    inFields,
    ruleOf,
    saysNothing,
    type RuleDraft,
    type RuleInForce,
    type Scope
  } from '$lib/rule';
  import { changedMeanwhile, type Changed } from '$lib/conflict';
  import { keepDraft, keptDraft } from '$lib/drafts.svelte';
  import { undo } from '$lib/undo.svelte';
  import { untrack } from 'svelte';
  import Conflict from './Conflict.svelte';
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
  let conflict = $state<Changed<Schema['ScopedRule']> | null>(null);
  let saving = $state(false);
  let ready = $state(false);
  const path = $derived({ scope, subject_id: subject, category });

  async function load() {
    const key = whose;
    const known = await api.GET('/api/v2/rules/{scope}/{subject_id}/{category}', {
      params: { path }
    });
    if (known.error && known.response.status !== 404) {
      problem = inWords(known.error);
      return;
    }
    if (key !== whose) return;
    said = known.data ?? null;
    etag = known.response.headers.get('ETag');
    conflict = null;
    problem = '';
    const kept = keptDraft(`rule:${key}`);
    draft = draftOf(said?.rule);
    if (kept) {
      // about an earlier version it stays so, and both are shown when it is saved
      draft = { ...draft, ...(kept.draft as RuleDraft) };
      etag = kept.etag as string | null;
    }
    ready = true;
  }
  // by its value: a list that is asked for anew is no reason to lose what somebody is typing
  const whose = $derived(`${scope}/${subject}/${category}`);
  $effect(() => {
    void whose;
    untrack(() => void load());
  });
  // what is typed survives a reload, with the version it is about
  $effect(() => {
    if (!ready) return;
    const typed = JSON.stringify(draft);
    const isSame = typed === JSON.stringify(draftOf(said?.rule));
    keepDraft(`rule:${whose}`, isSame ? null : { etag, draft: JSON.parse(typed) as RuleDraft });
  });

  async function save(event?: SubmitEvent) {
    event?.preventDefault();
    saving = true;
    const rule = ruleOf(draft);
    const headers = etag ? { 'If-Match': etag } : {};
    const { error, response } = saysNothing(rule)
      ? said
        ? await api.DELETE('/api/v2/rules/{scope}/{subject_id}/{category}', {
            params: { path },
            headers
          })
        : { error: undefined, response: undefined }
      : await api.PUT('/api/v2/rules/{scope}/{subject_id}/{category}', {
          params: { path },
          headers,
          body: rule
        });
    saving = false;
    // made by somebody else meanwhile, where there was none
    if (response?.status === 428) conflict = await madeMeanwhile();
    else conflict = changedMeanwhile(error);
    problem = error && !conflict ? inWords(error) : '';
    if (!error) {
      keepDraft(`rule:${whose}`, null);
      if (response) offerUndo(response.headers.get('ETag'));
      onsaved();
    }
  }
  /** As it was before, of the version that was made just now. */
  function offerUndo(made: string | null) {
    const [before, where, saved] = [said?.rule, { ...path }, onsaved];
    const headers = made ? { 'If-Match': made } : {};
    const address = '/api/v2/rules/{scope}/{subject_id}/{category}';
    undo.offer(
      'The rule is changed.',
      () =>
        before
          ? api.PUT(address, { params: { path: where }, headers, body: before })
          : api.DELETE(address, { params: { path: where }, headers }),
      async () => saved()
    );
  }
  async function madeMeanwhile(): Promise<Changed<Schema['ScopedRule']> | null> {
    const { data } = await api.GET('/api/v2/rules/{scope}/{subject_id}/{category}', {
      params: { path }
    });
    return data ? { who: data.changed_by, at: data.changed_at, current: data } : null;
  }
  function leave() {
    keepDraft(`rule:${whose}`, null);
    oncancel();
  }
  function saveOurs() {
    if (!conflict) return;
    said = conflict.current;
    etag = `"${conflict.current.version}"`;
    void save();
  }
  function takeTheirs() {
    if (!conflict) return;
    said = conflict.current;
    etag = `"${conflict.current.version}"`;
    draft = draftOf(said.rule);
    conflict = null;
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
    {#if conflict}
      <Conflict
        changed={conflict}
        ours={inFields(draft)}
        theirs={inFields(draftOf(conflict.current.rule))}
        onours={saveOurs}
        ontheirs={takeTheirs}
      />
    {:else if problem}<p class="lossy" role="alert">{problem}</p>{/if}
    <div class="flex flex-wrap justify-end gap-2">
      <button type="button" class="act" onclick={leave}>Leave as it is</button>
      <button class="act main" disabled={saving || conflict !== null}
        >{saving ? 'Saving…' : 'Save the rule'}</button
      >
    </div>
  </form>
{:else if problem}
  <p class="lossy flex flex-wrap items-center gap-3" role="alert">
    {problem}
    <button type="button" class="act" onclick={load}>Try again</button>
  </p>
{/if}
