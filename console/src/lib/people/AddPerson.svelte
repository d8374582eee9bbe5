<script lang="ts">
  import { api, inWords } from '$lib/api/client';
  import { refresh } from '$lib/api/queries';
  import { Draft } from '$lib/drafts.svelte';
  import type { Shown } from './LinkOnce.svelte';

  let { problem = $bindable(), link = $bindable() }: { problem: string; link: Shown | null } =
    $props();
  const draft = new Draft('person', { name: '', login: '', role: 'technician' });

  async function add(event: SubmitEvent) {
    event.preventDefault();
    const fields = draft.fields;
    const { data, error } = await api.POST('/api/v2/people', {
      body: { name: fields.name, login: fields.login, role: fields.role as 'technician' }
    });
    problem = error ? inWords(error) : '';
    if (!data) return;
    draft.reset();
    await refresh('/api/v2/people', '/api/v2/audit');
    const made = await api.POST('/api/v2/people/{person_id}/link', {
      params: { path: { person_id: data.id } }
    });
    problem = made.error ? inWords(made.error) : '';
    if (made.data) link = { name: data.name, secret: made.data.secret, until: made.data.until };
  }
</script>

<h2 class="mt-8">Add a person</h2>
<form class="mt-2 flex max-w-4xl flex-wrap items-end gap-2" onsubmit={add}>
  <label class="field flex-1">
    <span>Name</span>
    <input class="box" bind:value={draft.fields.name} required maxlength="120" />
  </label>
  <label class="field">
    <span>Login</span>
    <input
      class="box"
      bind:value={draft.fields.login}
      required
      maxlength="63"
      autocapitalize="none"
      spellcheck="false"
    />
  </label>
  <label class="field">
    <span>Role</span>
    <select class="box" bind:value={draft.fields.role}>
      <option value="technician">technician</option>
      <option value="desk">desk</option>
      <option value="owner">owner</option>
    </select>
  </label>
  <button class="act main">Add, and make a link</button>
</form>
