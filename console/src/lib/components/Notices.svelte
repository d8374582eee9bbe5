<script lang="ts">
  import { api, inWords, type Person, type Schema } from '$lib/api/client';
  import { onMount } from 'svelte';
  import When from '$lib/components/When.svelte';

  let { me }: { me: Person } = $props();
  let wishes = $state<Schema['Wishes'] | null>(null);
  let server = $state<Schema['MailServer'] | null>(null);
  let serverAsked = $state(false);
  let hooks = $state<Schema['Hook'][]>([]);
  let log = $state<Schema['Notice'][]>([]);
  let problem = $state('');
  let said = $state('');
  let secret = $state('');
  let form = $state({
    mail: '',
    at_once: 'urgent',
    daily: false,
    weekly: true,
    from: '',
    until: ''
  });
  let post = $state({ host: '', port: 587, security: 'starttls', login: '', sender: '' });
  let hook = $state({ name: '', url: '', at_once: 'all' });

  const isOwner = $derived(me.role === 'owner');
  const mine = $derived({ params: { path: { person_id: me.id } } });

  // Each part is fetched by itself, so that saving one takes nothing typed out of another.
  async function loadWishes() {
    const { data } = await api.GET('/api/v1/people/{person_id}/notices', mine);
    if (!data) return;
    form = {
      mail: data.mail ?? '',
      at_once: data.at_once,
      daily: data.daily,
      weekly: data.weekly,
      from: data.quiet_from?.slice(0, 5) ?? '',
      until: data.quiet_until?.slice(0, 5) ?? ''
    };
    wishes = data;
  }
  async function loadLog() {
    const { data } = await api.GET('/api/v1/notices', { params: { query: { limit: 12 } } });
    log = data ?? [];
  }
  async function loadServer() {
    const { data } = await api.GET('/api/v1/mail-server');
    server = data ?? null;
    if (server) post = { ...server };
    serverAsked = true;
  }
  async function loadHooks() {
    const { data } = await api.GET('/api/v1/hooks');
    hooks = data ?? [];
  }
  onMount(() => {
    void loadWishes();
    void loadLog();
    if (!isOwner) return;
    void loadServer();
    void loadHooks();
  });

  async function saveWishes(event: SubmitEvent) {
    event.preventDefault();
    const { error } = await api.PUT('/api/v1/people/{person_id}/notices', {
      ...mine,
      headers: { 'If-Match': `"${wishes?.version ?? 0}"` },
      body: {
        mail: form.mail || null,
        at_once: form.at_once as 'urgent',
        daily: form.daily,
        weekly: form.weekly,
        quiet_from: form.from || null,
        quiet_until: form.until || null
      }
    });
    problem = error ? inWords(error) : '';
    said = error ? '' : 'Saved.';
    if (!error) await loadWishes();
  }
  async function trial() {
    const { error } = await api.POST('/api/v1/people/{person_id}/notices/trial', mine);
    problem = error ? inWords(error) : '';
    said = error ? '' : 'A mail is on its way.';
    await loadLog();
  }
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
    if (!error) await loadServer();
  }
  async function addHook(event: SubmitEvent) {
    event.preventDefault();
    const { data, error } = await api.POST('/api/v1/hooks', {
      body: { name: hook.name, url: hook.url, at_once: hook.at_once as 'all' }
    });
    problem = error ? inWords(error) : '';
    secret = data?.secret ?? '';
    if (data) hook = { name: '', url: '', at_once: 'all' };
    await loadHooks();
  }
  async function withdraw(id: number) {
    await api.DELETE('/api/v1/hooks/{hook_id}', { params: { path: { hook_id: id } } });
    await loadHooks();
  }
  async function again(id: number) {
    const { error } = await api.POST('/api/v1/notices/{notice_id}/again', {
      params: { path: { notice_id: id } }
    });
    problem = error ? inWords(error) : '';
    await loadLog();
  }
</script>

<section class="lg:col-span-2" aria-labelledby="notices">
  <h2 id="notices">Notices</h2>
  {#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
  {#if said}<p class="mt-2" role="status">{said}</p>{/if}
  <div class="mt-2 grid gap-10 lg:grid-cols-2">
    {#if wishes}
      <form class="space-y-3" onsubmit={saveWishes} data-testid="wishes">
        <h3 class="font-semibold">What {me.name} is told by mail</h3>
        <div class="flex flex-wrap gap-3">
          <label class="field"
            ><span>Mail to</span><input
              class="box w-64"
              type="email"
              bind:value={form.mail}
            /></label
          >
          <label class="field">
            <span>At once</span>
            <select class="box" bind:value={form.at_once}>
              <option value="urgent">what is urgent</option>
              <option value="all">everything that needs somebody</option>
              <option value="never">nothing</option>
            </select>
          </label>
        </div>
        <div class="flex flex-wrap items-end gap-4">
          <label><input type="checkbox" bind:checked={form.daily} /> summary each morning</label>
          <label><input type="checkbox" bind:checked={form.weekly} /> summary on Mondays</label>
        </div>
        <div class="flex flex-wrap items-end gap-3">
          <label class="field"
            ><span>Quiet from</span><input class="box" type="time" bind:value={form.from} /></label
          >
          <label class="field"
            ><span>until</span><input class="box" type="time" bind:value={form.until} /></label
          >
          <button class="act main">Save</button>
          <button class="act" type="button" onclick={trial} disabled={!wishes.mail}
            >Send me one to try</button
          >
        </div>
      </form>
    {/if}
    {#if isOwner}
      <div class="space-y-6">
        {#if serverAsked}
          <form class="space-y-3" onsubmit={saveServer}>
            <h3 class="font-semibold">Through which server mail goes</h3>
            <div class="flex flex-wrap items-end gap-3">
              <label class="field"
                ><span>Server</span><input
                  class="box w-52"
                  bind:value={post.host}
                  required
                /></label
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
                <span>Secured by</span>
                <select class="box" bind:value={post.security}>
                  <option value="starttls">STARTTLS</option>
                  <option value="tls">TLS</option>
                  <option value="none">nothing (this machine only)</option>
                </select>
              </label>
              <label class="field"
                ><span>Signs in as</span><input class="box w-40" bind:value={post.login} /></label
              >
              <label class="field"
                ><span>Mail is from</span><input
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
        <div>
          <h3 class="font-semibold">Other programs that are told</h3>
          <ul class="ruled mt-1">
            {#each hooks as one (one.id)}
              <li class="flex items-center justify-between gap-2 py-1.5">
                <span>{one.name} <span class="muted text-sm break-all">{one.url}</span></span>
                <button class="act" onclick={() => withdraw(one.id)}>Withdraw</button>
              </li>
            {:else}
              <li class="muted py-1.5">None.</li>
            {/each}
          </ul>
          <form class="mt-2 flex flex-wrap items-end gap-2" onsubmit={addHook}>
            <label class="field"
              ><span>Which program</span><input
                class="box w-36"
                bind:value={hook.name}
                required
              /></label
            >
            <label class="field"
              ><span>Address</span><input
                class="box w-64"
                type="url"
                bind:value={hook.url}
                required
              /></label
            >
            <button class="act">Tell it</button>
          </form>
          {#if secret}<p class="mt-2">
              Key of its signatures, shown this once: <code class="break-all">{secret}</code>
            </p>{/if}
        </div>
      </div>
    {/if}
  </div>
  <h3 class="mt-6 font-semibold">What was sent</h3>
  <table class="sheet mt-1" data-testid="notice-log">
    <thead><tr><th>when</th><th>to</th><th>what</th><th>fate</th></tr></thead>
    <tbody>
      {#each log as one (one.id)}
        <tr>
          <td class="whitespace-nowrap"><When at={one.made_at} /></td>
          <td>{one.receiver}</td>
          <td>{one.subject} <span class="muted text-sm">{one.kind}</span></td>
          <td>
            {one.state}{#if one.state === 'waiting'}
              <span class="muted text-sm">until <When at={one.due_at} /></span>{/if}
            {#if one.error}<span class="muted block text-sm">{one.error}</span>{/if}
            {#if one.state === 'given up' && isOwner}
              <button class="act" onclick={() => again(one.id)}>Try again</button>{/if}
          </td>
        </tr>
      {:else}
        <tr><td colspan="4" class="muted">Nothing yet.</td></tr>
      {/each}
    </tbody>
  </table>
</section>
