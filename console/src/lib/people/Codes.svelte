<script lang="ts">
  import { api, inWords, type Schema } from '$lib/api/client';
  import { refresh } from '$lib/api/queries';

  let { me }: { me: Schema['Person'] } = $props();
  let begun = $state<Schema['CodesBegun'] | null>(null);
  let code = $state('');
  let problem = $state('');

  async function begin() {
    const { data, error } = await api.POST('/api/v2/me/codes');
    problem = error ? inWords(error) : '';
    begun = data ?? null;
  }
  async function give(event: SubmitEvent) {
    event.preventDefault();
    const { error } = me.needs_code
      ? await api.POST('/api/v2/me/codes/removal', { body: { code } })
      : await api.PUT('/api/v2/me/codes', { body: { code } });
    problem = error ? inWords(error) : '';
    code = '';
    if (error) return;
    begun = null;
    await refresh('/api/v2/me', '/api/v2/people');
  }
</script>

<h2 class="mt-8">A code as well</h2>
<p class="mt-2 max-w-2xl">
  {#if me.needs_code}
    You sign in with your password and a code from an app.
  {:else}
    An app on your phone can make a code that nobody has who only knows your password.
  {/if}
</p>
{#if !me.needs_code && !begun}
  <button class="act mt-2" onclick={begin}>Set up codes</button>
{/if}
{#if begun}
  <div class="mt-2 flex max-w-3xl flex-wrap items-start gap-4">
    <img
      class="bg-white p-1"
      width="200"
      height="200"
      alt="The secret as a QR code, for an app that makes codes"
      src="data:image/svg+xml;utf8,{encodeURIComponent(begun.picture)}"
    />
    <p class="min-w-0 flex-1">
      Show this to the app, or type its address:
      <code class="mt-1 block text-sm break-all whitespace-normal">{begun.address}</code>
    </p>
  </div>
{/if}
{#if begun || me.needs_code}
  <form class="mt-3 flex flex-wrap items-end gap-2" onsubmit={give}>
    <label class="field">
      <span>{me.needs_code ? 'A code, to take them off' : 'The code that it shows'}</span>
      <input
        class="box w-32"
        bind:value={code}
        inputmode="numeric"
        autocomplete="one-time-code"
        required
        minlength="6"
        maxlength="10"
      />
    </label>
    <button class="act">{me.needs_code ? 'Sign in without codes' : 'Use codes from now on'}</button>
  </form>
{/if}
{#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
