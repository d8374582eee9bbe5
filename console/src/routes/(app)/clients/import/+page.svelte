<script lang="ts">
  import { inBase64 } from '$lib/api/base64';
  import { api, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { refresh } from '$lib/api/queries';
  import Outcome from '$lib/components/Outcome.svelte';
  import Columns from '$lib/importing/Columns.svelte';
  import type { ListField } from '$lib/importing/fields';
  import Lines from '$lib/importing/Lines.svelte';
  import { count } from '$lib/words';

  const ENCODINGS = [
    'utf-8',
    'utf-16',
    'windows-1252',
    'windows-1250',
    'windows-1251',
    'iso-8859-15',
    'macintosh'
  ] as const;
  const SEPARATORS = { ',': 'comma', ';': 'semicolon', '\t': 'tab', '|': 'bar' } as const;

  let asked = $state<Schema['ImportRequest'] | null>(null);
  let preview = $state<Schema['ImportPreview'] | null>(null);
  let name = $state('');
  const doing = new Doing();
  const wanted = $derived(
    ['added', 'completed', 'changed'].reduce(
      (sum, status) => sum + (preview?.count_by_status?.[status as Schema['LineStatus']] ?? 0),
      0
    )
  );

  async function look(change: Partial<Schema['ImportRequest']> = {}) {
    if (!asked) return;
    asked = { ...asked, ...change };
    const body = $state.snapshot(asked);
    await doing.try(async () => {
      const reply = await api.POST('/api/v2/imports/preview', { body });
      if (reply.data) preview = reply.data;
      return reply;
    });
  }
  async function choose(event: Event) {
    const file = (event.currentTarget as HTMLInputElement).files?.[0];
    if (!file) return;
    preview = null;
    name = file.name;
    asked = {
      content: await inBase64(file),
      source: asked?.source ?? 'list',
      columns: [],
      overwrite: false
    };
    await look();
  }
  function takeColumn(column: number, field: ListField | null) {
    const others = (asked?.columns ?? []).filter((each) => each.column !== column);
    void look({ columns: [...others, { column, field }] });
  }
  async function takeIn(event: SubmitEvent) {
    event.preventDefault();
    if (!asked || !preview?.preview) return;
    const body = { ...$state.snapshot(asked), preview: preview.preview };
    let said = '';
    const isDone = await doing.try(async () => {
      const reply = await api.POST('/api/v2/imports', { body });
      if (reply.data) {
        const { added, completed, changed, new_clients } = reply.data;
        said =
          `Taken in: ${count(added, 'line')} added, ${completed} completed, ${changed} changed; ` +
          `${count(new_clients, 'new client')}.`;
      }
      return reply;
    });
    if (!isDone) return;
    await refresh('/api/v2/clients', '/api/v2/machines', '/api/v2/machines/numbers');
    await look();
    doing.said = said;
  }
</script>

<svelte:head><title>Import a list – Phylax</title></svelte:head>

<div class="flex flex-wrap items-center justify-between gap-4">
  <h1>Import a list</h1>
  <a class="anchor" href="/clients">All clients</a>
</div>
<p class="mt-2 max-w-2xl">
  Clients and machines from a CSV with a line of headings, however they are called. First you see
  what becomes of each line; nothing is written before you say so, and taken in again, the same list
  changes nothing.
</p>
<div class="mt-4 flex flex-wrap items-end gap-4">
  <label class="field">
    <span>The list</span>
    <input type="file" accept=".csv,.txt,.tsv,text/csv" onchange={choose} disabled={doing.busy} />
  </label>
  {#if asked && preview}
    <label class="field">
      <span>What it is called (its own numbers are known by it)</span>
      <input
        class="box w-40"
        maxlength="60"
        value={asked.source}
        onchange={(event) => look({ source: event.currentTarget.value })}
      />
    </label>
    <label class="field">
      <span>Encoding</span>
      <select
        class="box"
        value={asked.encoding ?? ''}
        onchange={(event) =>
          look({
            encoding: (event.currentTarget.value || null) as Schema['ImportRequest']['encoding']
          })}
      >
        <option value="">as it seems: {preview.encoding}</option>
        {#each ENCODINGS as encoding (encoding)}<option>{encoding}</option>{/each}
      </select>
    </label>
    <label class="field">
      <span>Between cells</span>
      <select
        class="box"
        value={asked.separator ?? ''}
        onchange={(event) =>
          look({
            separator: (event.currentTarget.value || null) as Schema['ImportRequest']['separator']
          })}
      >
        <option value="">as it seems: {SEPARATORS[preview.separator]}</option>
        {#each Object.entries(SEPARATORS) as [sign, called] (sign)}
          <option value={sign}>{called}</option>
        {/each}
      </select>
    </label>
    <label class="field">
      <span>System, where the list says none</span>
      <select
        class="box"
        value={asked.system ?? ''}
        onchange={(event) =>
          look({
            system: (event.currentTarget.value || null) as Schema['ImportRequest']['system']
          })}
      >
        <option value="">refuse the line</option>
        <option value="windows">Windows</option>
        <option value="macos">macOS</option>
        <option value="linux">Linux</option>
      </select>
    </label>
    <label class="flex items-center gap-2">
      <input
        type="checkbox"
        class="checkbox"
        checked={asked.overwrite ?? false}
        onchange={(event) => look({ overwrite: event.currentTarget.checked })}
      />
      Where they differ, the list is right
    </label>
  {/if}
</div>
{#if preview}
  {#if preview.needed}<p class="lossy mt-3" role="alert">{preview.needed}</p>{/if}
  {#if preview.doubtful?.length}
    <ul class="ruled mt-2 max-w-3xl" data-testid="doubtful">
      {#each preview.doubtful as text (text)}<li class="py-1 text-sm break-all">{text}</li>{/each}
    </ul>
  {/if}
  <details class="mt-4" open={preview.needed !== '' && preview.sure}>
    <summary>What the columns hold</summary>
    <Columns columns={preview.columns} choose={takeColumn} />
  </details>
  <h2 class="mt-6">What becomes of {name}</h2>
  <form class="mt-3" onsubmit={takeIn}>
    <button class="act main" disabled={doing.busy || !preview.preview || wanted === 0}>
      {wanted ? `Import ${count(wanted, 'line')}` : 'There is nothing to import'}
    </button>
  </form>
  <Outcome of={doing} />
  <Lines {preview} />
{/if}
{#if !preview}<Outcome of={doing} />{/if}
