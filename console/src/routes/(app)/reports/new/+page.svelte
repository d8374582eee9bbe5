<script lang="ts">
  import { createQuery, keepPreviousData } from '@tanstack/svelte-query';
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { api, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { answerOf, ask, refresh } from '$lib/api/queries';
  import Outcome from '$lib/components/Outcome.svelte';
  import Paper from '$lib/reports/Paper.svelte';
  import { LANGUAGES, PARTS, type ReportAsk } from '$lib/reports/parts';
  import When from '$lib/components/When.svelte';

  const number = (name: string) => Number(page.url.searchParams.get(name)) || null;
  const visit = $derived(number('visit'));
  const machine = $derived(number('machine'));
  const client = $derived(number('client'));
  const headAsked = createQuery(() => ask('/api/v2/letterhead'));

  let first = $state('');
  let last = $state('');
  let language = $state<ReportAsk['language'] | ''>('');
  let cover = $state('');
  let parts = $state([...PARTS]);
  let notes = $state<number[]>([]);
  const making = new Doing();

  // what technicians wrote is for the shop; what goes in is chosen
  const notesAsked = createQuery(() => ({
    ...ask('/api/v2/records', {
      params: {
        query: {
          kind: ['note', 'call'],
          limit: 50,
          ...(visit ? { visit } : machine ? { machine: String(machine) } : { client_id: client! })
        }
      }
    }),
    enabled: Boolean(visit ?? machine ?? client)
  }));
  const asked = $derived<ReportAsk>({
    visit,
    machine_id: machine,
    client_id: client,
    first: visit ? null : first || null,
    last: visit ? null : last || null,
    language: language || headAsked.data?.language || 'en',
    leave_out: PARTS.filter((part) => !parts.includes(part)),
    cover: cover.trim(),
    notes
  });
  const question = $derived(JSON.stringify(asked));
  let rested = $state('');
  $effect(() => {
    const wanted = question;
    const timer = setTimeout(() => (rested = wanted), 250);
    return () => clearTimeout(timer);
  });
  const previewAsked = createQuery(() => ({
    queryKey: ['/api/v2/reports/preview', rested],
    queryFn: ({ signal }) =>
      answerOf(api.POST('/api/v2/reports/preview', { body: JSON.parse(rested), signal })),
    placeholderData: keepPreviousData,
    enabled: rested !== '' && Boolean(visit ?? machine ?? client)
  }));

  async function make(event: SubmitEvent) {
    event.preventDefault();
    let made: Schema['ReportWhole'] | undefined;
    await making.try<unknown>(async () => {
      const reply = await api.POST('/api/v2/reports', {
        headers: { 'Idempotency-Key': crypto.randomUUID() },
        body: asked
      });
      made = reply.data;
      return reply;
    });
    if (!made) return;
    await refresh('/api/v2/reports');
    await goto(`/reports/${made.id}`);
  }
</script>

<svelte:head><title>Make a report – Phylax</title></svelte:head>

<h1>Make a report for the client</h1>
{#if visit ?? machine ?? client}
  <form
    class="mt-6 grid gap-8 lg:grid-cols-[minmax(0,2fr)_minmax(0,3fr)]"
    onsubmit={make}
    aria-label="Report"
  >
    <div class="space-y-5">
      {#if !visit}
        <div class="flex flex-wrap gap-4">
          <label class="field"
            ><span>First day</span><input class="box" type="date" bind:value={first} /></label
          >
          <label class="field"
            ><span>Last day</span><input class="box" type="date" bind:value={last} /></label
          >
        </div>
        <p class="muted text-sm">Left empty: the last thirty days.</p>
      {/if}
      <label class="field">
        <span>Language</span>
        <select
          class="box w-44"
          value={asked.language}
          onchange={(event) =>
            (language = event.currentTarget.value as NonNullable<ReportAsk['language']>)}
        >
          {#each Object.entries(LANGUAGES) as [key, name] (key)}<option value={key}>{name}</option
            >{/each}
        </select>
      </label>
      <label class="field">
        <span>Covering sentence (optional)</span>
        <textarea class="box w-full" rows="3" maxlength="2000" bind:value={cover}></textarea>
      </label>
      <fieldset>
        <legend class="font-semibold">What goes in</legend>
        {#each PARTS as part (part)}
          <label class="mt-1 flex items-baseline gap-2">
            <input type="checkbox" value={part} bind:group={parts} />
            {part}
          </label>
        {/each}
      </fieldset>
      {#if notesAsked.data?.length}
        <fieldset>
          <legend class="font-semibold">Notes that go in as they are written</legend>
          {#each notesAsked.data as note (note.id)}
            <label class="mt-1 flex items-baseline gap-2">
              <input type="checkbox" value={note.id} bind:group={notes} />
              <span>
                {note.text}
                <span class="muted text-sm">{note.who}, <When at={note.at} /></span>
              </span>
            </label>
          {/each}
        </fieldset>
      {/if}
      <button class="act main" disabled={making.busy || !previewAsked.data}>Make the report</button>
      <p class="muted text-sm">
        It is kept as it is then, as a page and as a PDF. Nothing is sent by it.
      </p>
      <Outcome of={making} />
    </div>
    <div aria-label="How it reads" role="region">
      {#if previewAsked.error}
        <p class="lossy" role="alert">{previewAsked.error.message}</p>
      {:else if previewAsked.data}<Paper document={previewAsked.data} />
      {:else}<p class="muted">…</p>{/if}
    </div>
  </form>
{:else}
  <p class="mt-4">
    Start from a visit, a machine or a client: each page has <em>Make a report</em>.
  </p>
{/if}
