<script lang="ts">
  import ClientBox from '$lib/components/ClientBox.svelte';
  import Conflict from '$lib/components/Conflict.svelte';
  import Failed from '$lib/components/Failed.svelte';
  import Modal from '$lib/components/Modal.svelte';
  import NumberField from '$lib/components/NumberField.svelte';
  import Panel from '$lib/components/Panel.svelte';
  import RunState from '$lib/components/RunState.svelte';
  import VolumeBar from '$lib/components/VolumeBar.svelte';
  import When from '$lib/components/When.svelte';
  import { Progress } from '@skeletonlabs/skeleton-svelte';
  import Plus from '@lucide/svelte/icons/plus';

  const GIB = 1024 ** 3;
  const volume = (free: number) => ({
    id: 1,
    mount: 'C:',
    name: '',
    disk: 'ssd' as const,
    file_system: 'NTFS',
    capacity: 100 * GIB,
    free: free * GIB,
    read_at: new Date().toISOString(),
    gone_at: null,
    crosses: null
  });
  const STATES = [
    'waiting',
    'running',
    'done',
    'partly',
    'failed',
    'missed',
    'called off'
  ] as const;
  let open = $state(false);
  let client = $state('');
  let number = $state<number | null>(null);
  const pending = { isPending: true, error: null, isFetching: true };
  const failed = {
    isPending: false,
    error: new Error('The service does not answer. Is the service running?'),
    isFetching: false
  };
</script>

<svelte:head><title>Parts – Phylax</title></svelte:head>

<h1>Parts of the console</h1>
<p class="muted">Each part once, in its states. For developers; nothing here changes anything.</p>

<section class="mt-6">
  <h2>Buttons</h2>
  <p class="mt-2 flex flex-wrap gap-2">
    <button class="act main"><Plus aria-hidden="true" />Main</button>
    <button class="act">Other</button>
    <button class="act loss">Loss</button>
    <button class="act" disabled>Cannot be pressed</button>
    <button class="act" aria-pressed="true">Chip, pressed</button>
    <button class="act" aria-pressed="false">Chip</button>
    <button class="plain">Plain</button>
  </p>
</section>
<section class="mt-6">
  <h2>Fields</h2>
  <div class="mt-2 flex flex-wrap items-end gap-3">
    <label class="field"><span>Text</span><input class="box" /></label>
    <NumberField label="Number" bind:value={number} placeholder="14" max={90} />
    <label class="field"><span>Choice</span><select class="box"><option>one</option></select></label
    >
    <ClientBox label="Client" bind:value={client} first={[{ value: '', label: 'the shop' }]} />
  </div>
</section>
<section class="mt-6">
  <h2>Loading and failed</h2>
  <div class="mt-2 space-y-2"><Failed query={pending} /><Failed query={failed} /></div>
</section>
<section class="mt-6">
  <h2>Dialogue and panel</h2>
  <p class="mt-2 flex gap-2">
    <button class="act" onclick={() => (open = true)}>Open a dialogue</button>
    <Panel name="Panel"><p>What is in it.</p></Panel>
  </p>
</section>
<section class="mt-6">
  <h2>Two versions</h2>
  <Conflict
    changed={{ who: 'Wren Halloran', at: new Date().toISOString(), current: null }}
    ours={{ name: 'Quiet nights', 'may start from': '20:00' }}
    theirs={{ name: 'Light nights', 'may start from': '20:00' }}
    onours={() => undefined}
    ontheirs={() => undefined}
  />
</section>
<section class="mt-6">
  <h2>Volumes</h2>
  <div class="mt-2 max-w-xl space-y-3">
    <VolumeBar volume={volume(40)} threshold={90} />
    <VolumeBar volume={volume(4)} threshold={90} />
    <VolumeBar volume={volume(30)} threshold={90} tall goes={20 * GIB} asks={10 * GIB} />
  </div>
</section>
<section class="mt-6">
  <h2>Progress, states and times</h2>
  <div class="mt-2 max-w-xl space-y-3">
    <Progress value={40}>
      <Progress.Label class="sr-only">Progress</Progress.Label>
      <Progress.Track class="h-2 bg-[var(--part-free)]">
        <Progress.Range class="bg-[var(--part-goes)]" />
      </Progress.Track>
    </Progress>
    <p class="flex flex-wrap gap-4">
      {#each STATES as state (state)}<RunState {state} />{/each}
    </p>
    <p>
      <When at={new Date().toISOString()} />, <When at={new Date(0).toISOString()} />
    </p>
  </div>
</section>
<Modal bind:open title="A dialogue"><p>What it asks.</p></Modal>
