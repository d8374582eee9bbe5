<script lang="ts">
  import { goto } from '$app/navigation';
  import { api, inWords } from '$lib/api/client';

  let present = $state('');
  let chosen = $state('');
  let problem = $state('');

  async function change(event: SubmitEvent) {
    event.preventDefault();
    const { error } = await api.POST('/api/v2/me/password', { body: { present, new: chosen } });
    problem = error ? inWords(error) : '';
    if (!error) await goto('/sign-in');
  }
</script>

<h2 class="mt-8">Password</h2>
<form class="mt-2 flex max-w-3xl flex-wrap items-end gap-2" onsubmit={change}>
  <label class="field">
    <span>Present password</span>
    <input
      class="box"
      type="password"
      autocomplete="current-password"
      bind:value={present}
      required
    />
  </label>
  <label class="field">
    <span>New password</span>
    <input
      class="box"
      type="password"
      autocomplete="new-password"
      bind:value={chosen}
      required
      minlength="10"
    />
  </label>
  <button class="act">Change it</button>
</form>
<p class="muted mt-1 text-sm">Your browsers are signed out; programs' tokens stay.</p>
{#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
