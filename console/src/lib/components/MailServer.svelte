<script lang="ts">
  import { onMount } from 'svelte';
  import { api, inWords, type Schema } from '$lib/api/client';

  let server = $state<Schema['MailServer'] | null>(null);
  let asked = $state(false);
  let problem = $state('');
  let said = $state('');
  let post = $state({ host: '', port: 587, security: 'starttls', login: '', sender: '' });

  async function load() {
    const { data, error, response } = await api.GET('/api/v1/mail-server');
    problem = error && response.status !== 404 ? inWords(error) : '';
    server = data ?? null;
    if (server) post = { ...server };
    asked = true;
  }
  onMount(() => void load());

  async function saveServer(event: SubmitEvent) {
    event.preventDefault();
    const { error } = await api.PUT('/api/v1/mail-server', {
      headers: server ? { 'If-Match': `"${server.version}"` } : {},
      body: {
        host: post.host,
        port: post.port,
        security: post.security as 'tls',
        login: post.login,
        sender: post.sender
      }
    });
    problem = error ? inWords(error) : '';
    said = error ? '' : 'Saved.';
    if (!error) await load();
  }
</script>

{#if asked}
  <form class="space-y-3" onsubmit={saveServer}>
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
      <button class="act">Save</button>
    </div>
  </form>
{/if}
{#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
{#if said}<p class="mt-2" role="status">{said}</p>{/if}
