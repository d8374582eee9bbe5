<script lang="ts">
  import type { LedgerLine, Machine } from '$lib/api/client';
  import { origins } from '$lib/rule';
  import Modal from './Modal.svelte';
  import RuleEditor from './RuleEditor.svelte';

  interface Props {
    open: boolean;
    machine: Machine;
    line: LedgerLine;
    onsaved: () => void;
  }
  let { open = $bindable(), machine, line, onsaved }: Props = $props();
</script>

<Modal bind:open widest title="{line.name} on {machine.tag}">
  <p>Now: {line.rule_in_words}, {origins(line.rule, line.caution)}.</p>
  <p class="muted mb-4 text-sm">
    Counts for this machine alone, from the next survey on. {line.cost}
  </p>
  <RuleEditor
    category={line.category}
    caution={line.caution}
    inForce={line.rule}
    scope="machine"
    subject={machine.id}
    onsaved={() => {
      open = false;
      onsaved();
    }}
    oncancel={() => (open = false)}
  />
</Modal>
