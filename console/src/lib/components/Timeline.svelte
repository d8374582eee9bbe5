<script lang="ts">
  import type { MaintenanceRecord } from '$lib/api/client';
  import { size } from '$lib/words';
  import Eraser from '@lucide/svelte/icons/eraser';
  import ClipboardList from '@lucide/svelte/icons/clipboard-list';
  import Cleaned from '@lucide/svelte/icons/list-x';
  import FileText from '@lucide/svelte/icons/file-text';
  import Monitor from '@lucide/svelte/icons/monitor-smartphone';
  import Settings from '@lucide/svelte/icons/sliders-horizontal';
  import Phone from '@lucide/svelte/icons/phone';
  import PencilLine from '@lucide/svelte/icons/pencil-line';
  import When from './When.svelte';

  interface Props {
    records: MaintenanceRecord[];
    withMachine?: boolean;
    /** Whether what belongs to a visit stands below its number. */
    byVisit?: boolean;
  }
  let { records, withMachine = false, byVisit = false }: Props = $props();
  /** Whether another visit, or none, begins with an entry. */
  const begins = (at: number) =>
    byVisit &&
    (records[at]?.visit_id ?? null) !== (at ? (records[at - 1]?.visit_id ?? null) : null);
  const marks = {
    run: Cleaned,
    note: PencilLine,
    call: Phone,
    machine: Monitor,
    report: FileText,
    visit: ClipboardList,
    setting: Settings,
    erasure: Eraser
  };
</script>

<ol class="ruled" data-testid="record">
  {#each records as entry, at (entry.id)}
    {@const Mark = marks[entry.kind]}
    {#if begins(at)}
      <li class="pt-4 pb-1 font-semibold" data-testid="of-visit">
        {#if entry.visit_id}
          <a class="anchor" href="/visits/{entry.visit_id}">Visit {entry.visit_id}</a>
        {:else}Before visit {records[at - 1]?.visit_id}{/if}
      </li>
    {/if}
    <li class="grid grid-cols-[1.5rem_1fr_auto] gap-x-2 py-2.5">
      <Mark size={16} class="mt-1 text-[var(--muted)]" aria-hidden="true" />
      <div>
        {#if withMachine}
          <a class="anchor" href="/machines/{entry.machine_tag}">{entry.machine_tag}</a>
          <span class="muted">{entry.client_name}</span>
        {/if}
        <p>
          {#if entry.erased}<span class="muted">(its words were erased)</span
            >{:else}{entry.text}{/if}{#if entry.corrects}<span class="muted">
              (puts entry {entry.corrects} right)</span
            >{/if}
        </p>
        {#if entry.attached?.length}
          <p class="flex flex-wrap gap-2 py-1">
            {#each entry.attached as attached (attached.id)}
              <a
                class="anchor"
                href="/api/v2/attachments/{attached.id}"
                target="_blank"
                rel="noreferrer"
                >{#if attached.kind === 'pdf'}{attached.name}{:else}<img
                    src="/api/v2/attachments/{attached.id}"
                    alt={attached.name}
                    class="h-16 w-auto"
                    loading="lazy"
                  />{/if}</a
              >
            {/each}
          </p>
        {/if}
        <p class="muted text-sm">
          {entry.kind === 'call' ? 'call with the client, ' : ''}{entry.who}, <When
            at={entry.at}
          />, entry {entry.id}
        </p>
      </div>
      <div class="text-right whitespace-nowrap">
        {#if entry.freed !== null && entry.freed !== undefined}
          <div>{size(entry.freed)} freed</div>
        {/if}
        {#if entry.left_count}<div class="lookhere text-sm">{entry.left_count} left</div>{/if}
        {#if entry.state && entry.state !== 'done'}<div class="muted text-sm">
            {entry.state}
          </div>{/if}
      </div>
    </li>
  {:else}
    <li class="muted py-3">Nothing is written down yet.</li>
  {/each}
</ol>
