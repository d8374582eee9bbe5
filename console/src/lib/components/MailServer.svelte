<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { CallError, ask, refresh } from '$lib/api/queries';
  import { changedMeanwhile, type Changed } from '$lib/conflict';
  import { Draft } from '$lib/drafts.svelte';
  import Conflict from './Conflict.svelte';
  import Failed from './Failed.svelte';
  import Outcome from './Outcome.svelte';

  const asked = createQuery(() => ask('/api/v2/mail-server'));
  const isNone = $derived(asked.error instanceof CallError && asked.error.status === 404);
  const saving = new Doing();
  const blank: Schema['MailServerEdit'] = {
    host: '',
    port: 587,
    security: 'starttls',
    login: '',
    sender: ''
  };
  const draft = new Draft('mail-server', blank);
  let version = $state<number>();
  let conflict = $state<Changed<Schema['MailServer']> | null>(null);
  const editOf = ({ host, port, security, login, sender }: Schema['MailServer']) => ({
    host,
    port,
    security,
    login,
    sender
  });
  $effect(() => {
    if (!asked.data || version !== undefined) return;
    version = asked.data.version;
    if (!draft.restored) draft.reset(editOf(asked.data));
  });

  const inWords = (server: Schema['MailServerEdit']) => ({
    server: `${server.host}:${server.port}`,
    encryption: server.security,
    'user name': server.login ?? '',
    sender: server.sender
  });
  async function save(event?: SubmitEvent) {
    event?.preventDefault();
    const headers = version === undefined ? {} : { 'If-Match': `"${version}"` };
    const call = async () => {
      const reply = await api.PUT('/api/v2/mail-server', { headers, body: draft.fields });
      conflict = changedMeanwhile(reply.error);
      return reply;
    };
    if (!(await saving.try(call, 'Saved.'))) return;
    await refresh('/api/v2/mail-server');
    version = asked.data?.version;
    if (asked.data) draft.reset(editOf(asked.data));
  }
  function saveOurs() {
    version = conflict?.current.version;
    void save();
  }
  function takeTheirs() {
    if (conflict) draft.reset(editOf(conflict.current));
    version = conflict?.current.version;
    conflict = null;
    saving.problem = '';
  }
</script>

{#if asked.data || isNone}
  <form class="space-y-3" onsubmit={save}>
    <h2 class="font-semibold">Mail server</h2>
    <div class="flex flex-wrap items-end gap-3">
      <label class="field"
        ><span>Server</span><input
          class="box w-52"
          bind:value={draft.fields.host}
          required
        /></label
      >
      <label class="field"
        ><span>Port</span><input
          class="box w-24"
          type="number"
          bind:value={draft.fields.port}
          required
        /></label
      >
      <label class="field">
        <span>Encryption</span>
        <select class="box" bind:value={draft.fields.security}>
          <option value="starttls">STARTTLS</option>
          <option value="tls">TLS</option>
          <option value="none">none (only for a server on this machine)</option>
        </select>
      </label>
      <label class="field"
        ><span>User name</span><input class="box w-40" bind:value={draft.fields.login} /></label
      >
      <label class="field"
        ><span>Sender</span><input
          class="box w-56"
          type="email"
          bind:value={draft.fields.sender}
          required
        /></label
      >
      <button class="act" disabled={saving.busy}>Save</button>
    </div>
  </form>
{:else}<Failed query={asked} />{/if}
{#if conflict}
  <Conflict
    changed={conflict}
    ours={inWords(draft.fields)}
    theirs={inWords(conflict.current)}
    onours={saveOurs}
    ontheirs={takeTheirs}
  />
{:else}<Outcome of={saving} />{/if}
