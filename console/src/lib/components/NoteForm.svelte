<script lang="ts">
  import { api, inWords, type Machine } from '$lib/api/client';
  import { refresh } from '$lib/api/queries';
  import { Draft } from '$lib/drafts.svelte';
  import { untrack } from 'svelte';

  /** One machine's; made anew for another. */
  let { machine }: { machine: Pick<Machine, 'id' | 'tag'> } = $props();
  const draft = untrack(() => new Draft(`note:${machine.id}`, { text: '', isCall: false }));
  let problem = $state('');
  let saving = $state(false);
  let files = $state<FileList | undefined>();

  async function save(event: SubmitEvent) {
    event.preventDefault();
    const text = draft.fields.text.trim();
    if (!text || saving) return;
    saving = true;
    problem = '';
    const attachments: number[] = [];
    for (const file of files ?? []) {
      const upload = await api.POST('/api/v2/attachments', {
        params: { query: { name: file.name.slice(-120) } },
        headers: { 'Content-Type': 'application/octet-stream' },
        body: file as unknown as string,
        bodySerializer: (body) => body as unknown as BodyInit
      });
      if (upload.error) problem = `${file.name}: ${inWords(upload.error)}`;
      else attachments.push(upload.data.id);
    }
    if (!problem) {
      const kind = draft.fields.isCall ? 'call' : 'note';
      const { error } = await api.POST('/api/v2/records', {
        headers: { 'Idempotency-Key': crypto.randomUUID() },
        body: { machine_id: machine.id, text, kind, attachments }
      });
      problem = error ? inWords(error) : '';
    }
    saving = false;
    if (!problem) {
      draft.reset();
      files = undefined;
      await refresh('/api/v2/records');
    }
  }
</script>

<form class="noprint mt-2 flex flex-wrap gap-2" onsubmit={save}>
  <label class="sr-only" for="note">Write something down</label>
  <input
    id="note"
    class="box min-w-64 flex-1"
    bind:value={draft.fields.text}
    maxlength="4000"
    placeholder="Write something down: what was said, advised, done by hand"
  />
  <label class="flex items-center gap-2">
    <input type="checkbox" bind:checked={draft.fields.isCall} /> said with the client
  </label>
  <label class="field">
    <span class="sr-only">Pictures or PDFs</span>
    <input
      type="file"
      multiple
      accept="image/jpeg,image/png,image/webp,application/pdf"
      bind:files
      class="max-w-56"
    />
  </label>
  <button class="act" disabled={!draft.fields.text.trim() || saving}>
    {saving ? 'Writing…' : 'Write down'}
  </button>
</form>
{#if problem}<p class="lossy" role="alert">{problem}</p>{/if}
