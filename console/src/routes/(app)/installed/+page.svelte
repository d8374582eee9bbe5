<script lang="ts">
  import { createQuery, keepPreviousData } from '@tanstack/svelte-query';
  import { replaceState } from '$app/navigation';
  import { page } from '$app/state';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import When from '$lib/components/When.svelte';
  import { count, size } from '$lib/words';

  const given = page.url.searchParams;
  let words = $state(given.get('words') ?? '');
  let version = $state(given.get('not') ?? '');
  let trial = $state(given.has('trial'));
  let unused = $state(given.has('unused'));
  const YEAR = 365;
  const MOST = 200;

  const asked = createQuery(() => ({
    ...ask('/api/v2/installed', {
      params: {
        query: {
          words: words.trim(),
          not_version: version.trim(),
          trial,
          unused_days: unused ? YEAR : undefined,
          limit: MOST
        }
      }
    }),
    placeholderData: keepPreviousData
  }));
  const rows = $derived(asked.data ?? []);
  const machines = $derived(new Set(rows.map((row) => row.machine_id)).size);
  $effect(() => {
    const query = new URLSearchParams();
    if (words.trim()) query.set('words', words.trim());
    if (version.trim()) query.set('not', version.trim());
    if (trial) query.set('trial', 'yes');
    if (unused) query.set('unused', 'yes');
    const text = query.toString();
    if (text !== page.url.searchParams.toString())
      replaceState(text ? `?${text}` : page.url.pathname, {});
  });
</script>

<svelte:head><title>Programs over the shop – Phylax</title></svelte:head>

<p><a class="anchor" href="/machines">All machines</a></p>
<h1>Programs over the shop</h1>
<p class="muted mt-1">What is installed on machines, by their newest checks, the largest first.</p>
<form class="noprint mt-4 flex flex-wrap items-end gap-3" onsubmit={(e) => e.preventDefault()}>
  <label class="field"
    ><span>Program</span><input class="box" maxlength="200" bind:value={words} /></label
  >
  <label class="field"
    ><span>Every version but</span><input
      class="box w-28"
      maxlength="100"
      bind:value={version}
    /></label
  >
  <label class="flex items-center gap-2"
    ><input type="checkbox" bind:checked={trial} />trial version only</label
  >
  <label class="flex items-center gap-2"
    ><input type="checkbox" bind:checked={unused} />nobody has used it for a year</label
  >
</form>
{#if !asked.data}
  <Failed query={asked} />
{:else}
  <p class="mt-4" role="status">
    {rows.length === 0
      ? 'There is none, by the newest checks.'
      : `${rows.length === MOST ? 'The first ' : ''}${count(rows.length, 'program')} on ${count(machines, 'machine')}.`}
  </p>
  {#if rows.length}
    <div class="overflow-x-auto">
      <table class="sheet mt-2" data-testid="installed">
        <caption class="sr-only">Programs over the shop</caption>
        <thead>
          <tr>
            <th scope="col">Program</th>
            <th scope="col">Version</th>
            <th scope="col" class="right">Size</th>
            <th scope="col">Last used</th>
            <th scope="col">Machine</th>
            <th scope="col">Client</th>
          </tr>
        </thead>
        <tbody>
          {#each rows as { program, ...row } (`${row.machine_id} ${program.key}`)}
            <tr>
              <th scope="row">
                {program.name}
                {#if program.trial}<span class="lookhere text-sm">trial version</span>{/if}
              </th>
              <td>{program.version}</td>
              <td class="right">{program.size ? size(program.size) : ''}</td>
              <td
                >{#if program.last_used}<When at={program.last_used} />{:else}not known{/if}</td
              >
              <td
                ><a class="anchor" href="/machines/{row.machine_tag}#installed">{row.machine_tag}</a
                ></td
              >
              <td>{row.client_name}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {/if}
{/if}
