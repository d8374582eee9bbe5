<script lang="ts">
  import { api, type Schema } from '$lib/api/client';
  import { EditForm } from '$lib/api/editing.svelte';
  import { refresh } from '$lib/api/queries';
  import { untrack } from 'svelte';
  import EditActions from './EditActions.svelte';

  type Spans = Schema['DataRetention'] & { version: number };
  let { spans, onclose }: { spans: Schema['DataRetention']; onclose: () => void } = $props();
  const fieldsOf = (of: Spans) => ({
    file_names_months: (of.file_names_months ?? 24) as number | null,
    notices_months: (of.notices_months ?? 24) as number | null,
    staff_months: of.staff_months ?? null
  });
  const form = untrack(
    () =>
      new EditForm({
        key: 'spans',
        live: (): Spans => ({ ...spans, version: spans.version ?? 0 }),
        fieldsOf,
        put: (over, touched, headers) => {
          const to = { ...fieldsOf(over), ...touched };
          return api.PUT('/api/v2/keeping', {
            headers,
            body: {
              file_names_months: to.file_names_months ?? 24,
              notices_months: to.notices_months ?? 24,
              staff_months: to.staff_months ?? null
            }
          });
        },
        labels: {
          file_names_months: 'files',
          notices_months: 'mails',
          staff_months: 'people who left'
        }
      })
  );
  const f = form.fields;

  async function refreshed() {
    onclose();
    await refresh('/api/v2/keeping');
  }
  async function save(event: SubmitEvent) {
    event.preventDefault();
    if (await form.save()) await refreshed();
  }
</script>

<form class="mt-3 flex flex-wrap items-end gap-3" onsubmit={save}>
  <label class="field">
    <span>Files, months</span>
    <input
      class="box w-28"
      type="number"
      min="1"
      max="240"
      required
      bind:value={f.file_names_months}
    />
  </label>
  <label class="field">
    <span>Mails, months</span>
    <input
      class="box w-28"
      type="number"
      min="1"
      max="240"
      required
      bind:value={f.notices_months}
    />
  </label>
  <label class="field">
    <span>People who left, months (empty: they stay)</span>
    <input class="box w-28" type="number" min="1" max="240" bind:value={f.staff_months} />
  </label>
  <EditActions {form} save="Keep them so long" onsaved={refreshed}>
    <button type="button" class="act" onclick={onclose}>Not now</button>
  </EditActions>
</form>
