<script lang="ts">
  import type { Schema } from '$lib/api/client';
  import { count } from '$lib/words';
  import { LINE_STATUSES, nameOf } from './fields';

  /** What becomes of each line; what somebody should look at is shown first. */
  let { preview }: { preview: Schema['ImportPreview'] } = $props();
  const AT_ONCE = 200;
  let chosen = $state<Schema['LineStatus'] | null>(null);
  let most = $state(AT_ONCE);
  const all = $derived(preview.lines ?? []);
  const shown = $derived(chosen === null ? all : all.filter((line) => line.status === chosen));
  const counts = $derived(preview.count_by_status ?? {});

  function choose(status: Schema['LineStatus'] | null) {
    chosen = status;
    most = AT_ONCE;
  }
</script>

<p class="mt-3 flex flex-wrap gap-2" role="group" aria-label="Lines to show">
  <button class="act" aria-pressed={chosen === null} onclick={() => choose(null)}>
    all {all.length}
  </button>
  {#each LINE_STATUSES as { status, name } (status)}
    {#if counts[status]}
      <button class="act" aria-pressed={chosen === status} onclick={() => choose(status)}>
        {counts[status]}
        {name}
      </button>
    {/if}
  {/each}
</p>
<table class="sheet cards mt-3" data-testid="lines">
  <caption class="sr-only">Lines of the list</caption>
  <thead>
    <tr>
      <th scope="col" class="right">line</th><th scope="col">status</th><th scope="col">client</th>
      <th scope="col">machine</th><th scope="col">remarks</th>
    </tr>
  </thead>
  <tbody>
    {#each shown.slice(0, most) as line (line.line)}
      <tr>
        <td data-name="line" class="right">{line.line}</td>
        <td data-name="status" class:lossy={line.status === 'refused'}>{line.status}</td>
        <td data-name="client">{line.client}{line.new_client ? ' (new)' : ''}</td>
        <td data-name="machine">{line.tag}</td>
        <td data-name="remarks" class="break-words">
          {#each line.changes ?? [] as change (change.field)}
            <div>
              {nameOf(change.field)}: {change.after}{change.before
                ? ` instead of ${change.before}`
                : ''}
            </div>
          {/each}
          {#each line.remarks ?? [] as sentence (sentence)}<div>{sentence}</div>{/each}
        </td>
      </tr>
    {/each}
  </tbody>
</table>
{#if shown.length > most}
  <button class="act mt-3" onclick={() => (most += AT_ONCE)}>
    Show {count(Math.min(AT_ONCE, shown.length - most), 'more line')}
  </button>
{/if}
