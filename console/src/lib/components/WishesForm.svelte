<script lang="ts">
  import { api, type Person, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { EditForm } from '$lib/api/editing.svelte';
  import { refresh } from '$lib/api/queries';
  import { untrack } from 'svelte';
  import EditActions from './EditActions.svelte';
  import Outcome from './Outcome.svelte';

  type Wishes = Schema['Wishes'] & { version: number };
  let { me, wishes, onsent }: { me: Person; wishes: Schema['Wishes']; onsent: () => void } =
    $props();
  const mine = $derived({ params: { path: { person_id: me.id } } });
  const fieldsOf = (of: Wishes) => ({
    mail: of.mail ?? '',
    at_once: of.at_once,
    daily: of.daily,
    weekly: of.weekly,
    quiet_from: of.quiet_from?.slice(0, 5) ?? '',
    quiet_until: of.quiet_until?.slice(0, 5) ?? ''
  });
  const form = untrack(
    () =>
      new EditForm({
        key: `wishes:${me.id}`,
        // before anything was written it has no version
        live: (): Wishes => ({ ...wishes, version: wishes.version ?? 0 }),
        fieldsOf,
        put: (over, touched, headers) => {
          const to = { ...fieldsOf(over), ...touched };
          return api.PUT('/api/v2/people/{person_id}/notices', {
            ...mine,
            headers,
            body: {
              ...to,
              mail: to.mail || null,
              quiet_from: to.quiet_from || null,
              quiet_until: to.quiet_until || null
            }
          });
        },
        labels: { quiet_from: 'quiet from', quiet_until: 'quiet until' }
      })
  );
  const f = form.fields;
  const sending = new Doing();
  const refreshed = () => refresh('/api/v2/people/{person_id}/notices');

  async function save(event: SubmitEvent) {
    event.preventDefault();
    await form.save();
    await refreshed();
  }
  async function trial() {
    const call = () => api.POST('/api/v2/people/{person_id}/notices/trial', mine);
    await sending.try(call, 'A test mail is on its way.');
    onsent();
  }
</script>

<form class="space-y-3" onsubmit={save} data-testid="wishes">
  <h2 class="font-semibold">Mail for {me.name}</h2>
  <div class="flex flex-wrap gap-3">
    <label class="field"
      ><span>Mail to</span><input class="box w-64" type="email" bind:value={f.mail} /></label
    >
    <label class="field">
      <span>At once</span>
      <select class="box" bind:value={f.at_once}>
        <option value="urgent">what is urgent</option>
        <option value="all">everything that needs a person</option>
        <option value="never">nothing</option>
      </select>
    </label>
  </div>
  <div class="flex flex-wrap items-end gap-4">
    <label><input type="checkbox" bind:checked={f.daily} /> summary each morning</label>
    <label><input type="checkbox" bind:checked={f.weekly} /> summary on Mondays</label>
  </div>
  <div class="flex flex-wrap items-end gap-3">
    <label class="field"
      ><span>Quiet from</span><input class="box" type="time" bind:value={f.quiet_from} /></label
    >
    <label class="field"
      ><span>until</span><input class="box" type="time" bind:value={f.quiet_until} /></label
    >
  </div>
  <EditActions {form} onsaved={refreshed}>
    <button
      class="act"
      type="button"
      onclick={trial}
      disabled={!wishes.mail || form.doing.busy || sending.busy}>Send a test mail</button
    >
  </EditActions>
  <Outcome of={sending} />
</form>
