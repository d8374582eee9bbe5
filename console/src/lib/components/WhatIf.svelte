<script lang="ts">
  import { api, inWords, type Schema } from '$lib/api/client';
  import type { Rule, Scope } from '$lib/rule';
  import { count, size } from '$lib/words';
  import When from './When.svelte';

  interface Props {
    category: string;
    scope: Scope;
    subject: number;
    rule: Rule;
  }
  let { category, scope, subject, rule }: Props = $props();

  const PAUSE = 250;
  let found = $state<Schema['WhatIf'] | null>(null);
  let problem = $state('');
  const asked = $derived(JSON.stringify({ category, scope, subject_id: subject, rule }));

  // asked once typing rests; an answer that comes late does not replace a newer one
  $effect(() => {
    const question = asked;
    const timer = setTimeout(async () => {
      const { data, error } = await api.POST('/api/v2/rules/what-if', {
        body: JSON.parse(question) as Schema['WhatIfQuestion']
      });
      if (question !== asked) return;
      if (data) found = data;
      problem = error ? inWords(error) : '';
    }, PAUSE);
    return () => clearTimeout(timer);
  });

  const most = $derived(
    (found?.most ?? []).filter((m) => m.removable_then.count || m.removable_now.count).slice(0, 8)
  );
  const widest = $derived(
    Math.max(1, ...most.map((m) => Math.max(m.removable_then.size, m.removable_now.size)))
  );
</script>

<div class="min-w-0 overflow-x-auto" aria-live="polite" data-testid="what-if">
  {#if problem}
    <p class="lossy">{problem}</p>
  {:else if found}
    <p>
      By this rule <strong
        >{found.exact ? '' : 'about '}{size(found.removable_then.size)} would be removed</strong
      >
      ({count(found.removable_then.count, 'item')}) on {count(found.machines, 'machine')}; by the
      rules in force it is {size(found.removable_now.size)}.
    </p>
    {#if found.stale || found.never_surveyed}
      <p class="lookhere text-sm">
        {#if found.stale}{count(found.stale, 'machine')} looked at too long ago to count on.{/if}
        {#if found.never_surveyed}{count(found.never_surveyed, 'machine')} never looked at.{/if}
      </p>
    {/if}
    {#if most.length}
      <table class="mt-2 w-full text-sm">
        <caption class="sr-only">Machines on which it would change most</caption>
        <thead>
          <tr class="muted text-left">
            <th scope="col" class="font-normal">machine</th>
            <th scope="col" class="font-normal"><span class="sr-only">drawn</span></th>
            <th scope="col" class="right font-normal">now</th>
            <th scope="col" class="right font-normal">then</th>
            <th scope="col" class="pl-3 font-normal">looked at</th>
          </tr>
        </thead>
        <tbody>
          {#each most as machine (machine.machine_id)}
            <tr>
              <td class="whitespace-nowrap pr-3">{machine.machine_tag}</td>
              <td class="w-1/3">
                <svg
                  class="block h-3 w-full"
                  viewBox="0 0 100 12"
                  preserveAspectRatio="none"
                  aria-hidden="true"
                >
                  <rect
                    y="1"
                    height="4"
                    width={(100 * machine.removable_now.size) / widest}
                    fill="var(--part-used)"
                  />
                  <rect
                    y="7"
                    height="4"
                    width={(100 * machine.removable_then.size) / widest}
                    fill="var(--part-goes)"
                  />
                </svg>
              </td>
              <td class="right whitespace-nowrap pl-3 text-right"
                >{size(machine.removable_now.size)}</td
              >
              <td class="right whitespace-nowrap pl-3 text-right"
                >{size(machine.removable_then.size)}</td
              >
              <td class="whitespace-nowrap pl-3" class:lookhere={machine.stale}>
                <When at={machine.surveyed_at} />{machine.stale ? ', too old' : ''}
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    {/if}
  {:else}
    <p class="muted">Working out what would be removed…</p>
  {/if}
</div>
