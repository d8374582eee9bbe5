<script lang="ts">
  import type { Machine, Schema } from '$lib/api/client';
  import { startRun } from '$lib/api/runs';
  import { Doing } from '$lib/api/doing.svelte';
  import Modal from '$lib/components/Modal.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import { count } from '$lib/words';
  import { SvelteSet } from 'svelte/reactivity';

  type Judged = Schema['JudgedProgram'];
  interface Props {
    machine: Machine;
    /** What the shop's rules would change. */
    programs: Judged[];
    onstarted: () => void;
  }
  let { machine, programs, onstarted }: Props = $props();
  const doing = new Doing();
  let open = $state(false);
  let word = $state('');
  const left = new SvelteSet<string>();
  const chosen = $derived(programs.filter((judged) => !left.has(judged.program.key)));

  function sentence({ program, verdict }: Judged): string {
    switch (verdict.value) {
      case 'off':
        return `${program.name}: nothing starts it any more but a person.`;
      case 'on demand':
        return `${program.name}: it does not start by itself; it starts when somebody needs it.`;
      case 'after start':
        return `${program.name}: it starts some time after the machine.`;
      default:
        return `${program.name}: it starts with the machine.`;
    }
  }
  async function change() {
    const call = () =>
      startRun({
        machine_id: machine.id,
        work: 'change settings',
        programs: chosen.map((judged) => ({
          program: judged.program.key,
          intent: judged.verdict.value as Schema['Intent']
        })),
        comment: word.trim()
      });
    if (await doing.try(call)) {
      open = false;
      word = '';
      onstarted();
    }
  }
</script>

<button class="act main mt-2" onclick={() => (open = true)}>Change…</button>
<Modal bind:open wide title="Change the startup programs of {machine.tag}?">
  <div class="space-y-4" data-testid="change-dialogue">
    <div>
      <p class="font-semibold">From the next start on:</p>
      <ul class="mt-1 space-y-1">
        {#each programs as judged (judged.program.key)}
          <li>
            <label class="flex items-start gap-2">
              <input
                type="checkbox"
                class="mt-1"
                checked={!left.has(judged.program.key)}
                onchange={(e) =>
                  e.currentTarget.checked
                    ? left.delete(judged.program.key)
                    : left.add(judged.program.key)}
              />
              {sentence(judged)}
            </label>
          </li>
        {/each}
      </ul>
    </div>
    <p>
      Nothing is removed, and nothing that runs now is stopped. Each change can be put back exactly;
      what is guarded or not known stays as it is.
    </p>
    <label class="field">
      <span>Why, or what the client said (for the record)</span>
      <input class="box" bind:value={word} maxlength="400" placeholder="asked by phone" />
    </label>
    <Outcome of={doing} />
    <div class="flex justify-end gap-2">
      <button class="act" onclick={() => (open = false)}>Cancel</button>
      <button class="act main" disabled={doing.busy || !chosen.length} onclick={change}>
        Change {count(chosen.length, 'program')}
      </button>
    </div>
  </div>
</Modal>
