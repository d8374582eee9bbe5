<script lang="ts">
  import Term from '$lib/components/Term.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import { useMe } from '$lib/session';
  import type { Schema } from '$lib/api/client';
  import Protections from '$lib/components/Protections.svelte';
  import RuleEditor from '$lib/components/RuleEditor.svelte';
  import RulesFile from '$lib/components/RulesFile.svelte';
  import { origins } from '$lib/rule';
  import { count } from '$lib/words';

  type ShopRule = Schema['ShopRule'];
  const CAUTIONS = { safe: 'cleaned automatically', ask: 'needs approval', report: 'only listed' };

  const asked = createQuery(() => ask('/api/v2/rules'));
  const rules = $derived<ShopRule[] | null>(asked.data ?? null);
  const me = useMe();
  const role = $derived(me.data?.role ?? 'desk');
  let changing = $state<string | null>(null);
  let saved = $state('');

  const load = () => refresh('/api/v2/rules', '/api/v2/protections');
</script>

<svelte:head><title>Rules – Phylax</title></svelte:head>

<h1>Rules</h1>
<p class="muted mt-1">
  What the shop keeps of each category. A client or a machine can have its own rule; the closest one
  wins, field by field.
</p>
{#if !rules}<Failed query={asked} />{/if}
{#if rules}
  <table class="sheet mt-4">
    <caption class="sr-only">Rules of the shop</caption>
    <thead>
      <tr>
        <th scope="col"><Term of="category" /></th>
        <th scope="col"><Term of="retention rule">rule</Term></th>
        <th scope="col" class="max-sm:hidden">from</th>
        <th scope="col" class="right max-sm:hidden">differ</th>
        <td></td>
      </tr>
    </thead>
    <tbody>
      {#each rules as rule (rule.category)}
        <tr>
          <td>
            {rule.name}
            <div class="muted text-sm">{CAUTIONS[rule.caution]}</div>
          </td>
          <td>{rule.in_words}</td>
          <td class="text-sm max-sm:hidden"
            >{origins(rule.in_force, rule.caution).replace(/^from /, '')}</td
          >
          <td class="right whitespace-nowrap max-sm:hidden">
            {rule.overrides ? count(rule.overrides, 'scope') : '–'}
          </td>
          <td class="right">
            {#if role === 'owner'}
              <button
                class="act"
                aria-expanded={changing === rule.category}
                onclick={() => {
                  changing = changing === rule.category ? null : rule.category;
                  saved = '';
                }}>Change</button
              >
            {/if}
            {#if saved === rule.category}<span role="status" class="text-sm">saved</span>{/if}
          </td>
        </tr>
        {#if changing === rule.category}
          <tr>
            <td colspan="5" class="bg-[var(--raised)]">
              <div class="p-3" data-testid="rule-editor">
                <p class="muted mb-3 text-sm">{rule.cost}</p>
                <RuleEditor
                  category={rule.category}
                  caution={rule.caution}
                  inForce={rule.in_force}
                  scope="shop"
                  subject={0}
                  onsaved={() => {
                    saved = rule.category;
                    changing = null;
                    void load();
                  }}
                  oncancel={() => (changing = null)}
                />
              </div>
            </td>
          </tr>
        {/if}
      {/each}
    </tbody>
  </table>
  <section class="mt-10" aria-labelledby="protected">
    <h2 id="protected"><Term of="protect list">Protected</Term></h2>
    <p class="muted text-sm">
      Folders, patterns (written as in a .gitignore file) and web sites that stay signed in. Each
      scope only adds.
    </p>
    <Protections mayChange={role !== 'desk'} isOwner={role === 'owner'} />
  </section>
  <section class="noprint mt-10" aria-labelledby="file">
    <h2 id="file">All rules as one file</h2>
    <RulesFile isOwner={role === 'owner'} onapplied={load} />
  </section>
{/if}
