<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { CallError, ask, refresh } from '$lib/api/queries';
  import Failed from './Failed.svelte';
  import Outcome from './Outcome.svelte';

  const asked = createQuery(() => ask('/api/v1/mail-server'));
  const isNone = $derived(asked.error instanceof CallError && asked.error.status === 404);
  const saving = new Doing();
  let post = $state<Schema['MailServerEdit']>({
    host: '',
    port: 587,
    security: 'starttls',
    login: '',
    sender: ''
  });
  // a newer version is taken into the form; what is being typed against it is then refused by version
  $effect(() => {
    if (!asked.data) return;
    const { host, port, security, login, sender } = asked.data;
    post = { host, port, security, login, sender };
  });

  async function save(event: SubmitEvent) {
    event.preventDefault();
    const headers = asked.data ? { 'If-Match': `"${asked.data.version}"` } : {};
    const call = () => api.PUT('/api/v1/mail-server', { headers, body: post });
    if (await saving.try(call, 'Saved.')) await refresh('/api/v1/mail-server');
  }
</script>

{#if asked.data || isNone}
  <form class="space-y-3" onsubmit={save}>
    <h2 class="font-semibold">Mail server</h2>
    <div class="flex flex-wrap items-end gap-3">
      <label class="field"
        ><span>Server</span><input class="box w-52" bind:value={post.host} required /></label
      >
      <label class="field"
        ><span>Port</span><input
          class="box w-24"
          type="number"
          bind:value={post.port}
          required
        /></label
      >
      <label class="field">
        <span>Encryption</span>
        <select class="box" bind:value={post.security}>
          <option value="starttls">STARTTLS</option>
          <option value="tls">TLS</option>
          <option value="none">none (only for a server on this machine)</option>
        </select>
      </label>
      <label class="field"
        ><span>User name</span><input class="box w-40" bind:value={post.login} /></label
      >
      <label class="field"
        ><span>Sender</span><input
          class="box w-56"
          type="email"
          bind:value={post.sender}
          required
        /></label
      >
      <button class="act" disabled={saving.busy}>Save</button>
    </div>
  </form>
{:else}<Failed query={asked} />{/if}
<Outcome of={saving} />
