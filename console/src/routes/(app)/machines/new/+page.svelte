<script lang="ts">
  import { refresh } from '$lib/api/queries';
  import { api, inWords, type Machine, type Schema } from '$lib/api/client';
  import ClientBox from '$lib/components/ClientBox.svelte';
  import { clientNamed, UNSAID } from '$lib/machines/edit';
  import { useMay } from '$lib/session';
  import { Draft } from '$lib/drafts.svelte';
  import When from '$lib/components/When.svelte';

  const blank = {
    tag: '',
    client: '',
    newClient: '',
    system: 'windows' as Schema['System'],
    make: '',
    model: '',
    serial: '',
    memory: '',
    note: ''
  };

  const draft = new Draft('machine', blank);
  const form = draft.fields;
  const may = useMay();
  let problem = $state('');
  let saving = $state(false);
  let made = $state<Machine | null>(null);
  let code = $state<Schema['EnrolmentCode'] | null>(null);

  async function clientId(): Promise<number | null> {
    if (form.client !== 'new') {
      if (!form.client) problem = 'Choose a client first.';
      return form.client ? Number(form.client) : null;
    }
    const { data, error } = await api.POST('/api/v2/clients', {
      body: clientNamed(form.newClient)
    });
    if (!data) {
      problem = inWords(error);
      return null;
    }
    await refresh('/api/v2/clients');
    form.client = String(data.id);
    return data.id;
  }

  async function save(event: SubmitEvent) {
    event.preventDefault();
    saving = true;
    problem = '';
    const client = await clientId();
    if (client !== null) {
      const { data, error } = await api.POST('/api/v2/machines', {
        body: {
          ...UNSAID,
          tag: form.tag,
          client_id: client,
          system: form.system,
          make: form.make,
          model: form.model,
          serial: form.serial,
          memory: form.memory ? Number(form.memory) * 1024 ** 3 : null,
          note: form.note
        }
      });
      if (data) {
        made = data;
        draft.reset();
        if (may.work) await makeCode(data.tag);
      } else problem = inWords(error);
    }
    saving = false;
  }

  async function makeCode(tag: string) {
    const { data, error } = await api.POST('/api/v2/machines/{machine}/enrolment-code', {
      params: { path: { machine: tag } }
    });
    if (data) code = data;
    else problem = inWords(error);
  }
  // agents refuse clear HTTP to another host unless they are told
  const inClear =
    location.protocol === 'http:' && !/^(localhost|127\.|\[::1\])/.test(location.host);
</script>

<svelte:head><title>Add a machine – Phylax</title></svelte:head>

<h1>Add a machine</h1>

{#if made}
  <div class="mt-6 max-w-2xl space-y-4">
    <p><strong>{made.tag}</strong> is added for {made.client_name}.</p>
    {#if code}
      <p>On the machine, start its agent with this one-time code:</p>
      <p class="path rounded border border-[var(--line)] bg-[var(--raised)] p-3 break-all">
        phylax agent enrol {location.origin}
        {code.code}{inClear ? ' --clear-http' : ''}
      </p>
      {#if inClear}
        <p>
          This address has no TLS: everybody on the way reads the machine's key. Give the service a
          certificate first (<code>phylax shop make-certificate</code>).
        </p>
      {/if}
      <p class="muted">
        The code is shown only once. It is valid until <When at={code.expires_at} />.
      </p>
    {/if}
    {#if !may.work}<p>A technician makes its code and enrols its agent.</p>{/if}
    <a class="act main" href="/machines/{made.tag}">Go to {made.tag}</a>
  </div>
{:else}
  <form class="mt-6 grid max-w-2xl gap-4 sm:grid-cols-2" onsubmit={save}>
    <ClientBox
      label="Whose is it?"
      bind:value={form.client}
      first={[{ value: 'new', label: 'A new client…' }]}
      required
    />
    {#if form.client === 'new'}
      <label class="field">
        <span>Name of the new client</span>
        <input class="box" bind:value={form.newClient} required maxlength="120" />
      </label>
    {:else}<span class="hidden sm:block"></span>{/if}
    <label class="field">
      <span>Tag on its label (small letters, digits, hyphens)</span>
      <input class="box" bind:value={form.tag} required pattern="[a-z0-9][a-z0-9\-]*" />
    </label>
    <label class="field">
      <span>System</span>
      <select class="box" bind:value={form.system}>
        <option value="windows">Windows</option>
        <option value="macos">macOS</option>
        <option value="linux">Linux</option>
      </select>
    </label>
    <label class="field"><span>Make</span><input class="box" bind:value={form.make} /></label>
    <label class="field"><span>Model</span><input class="box" bind:value={form.model} /></label>
    <label class="field"
      ><span>Serial number</span><input class="box" bind:value={form.serial} /></label
    >
    <label class="field">
      <span>Memory, GiB</span>
      <input class="box" type="number" min="1" max="4096" bind:value={form.memory} />
    </label>
    <label class="field sm:col-span-2">
      <span>What was said</span>
      <textarea class="box" rows="3" bind:value={form.note}></textarea>
    </label>
    {#if problem}<p class="lossy sm:col-span-2" role="alert">{problem}</p>{/if}
    <div class="sm:col-span-2">
      <button class="act main" disabled={saving}>{saving ? 'Adding…' : 'Add machine'}</button>
    </div>
  </form>
{/if}
