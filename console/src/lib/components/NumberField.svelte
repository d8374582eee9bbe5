<script lang="ts">
  interface Props {
    label: string;
    value: number | null;
    /** What counts while the field is empty. */
    placeholder: string;
    max?: number;
    step?: 'any' | number;
  }
  let { label, value = $bindable(), placeholder, max, step = 1 }: Props = $props();
</script>

<label class="field">
  <span>{label}</span>
  <input class="box" type="number" min="0" {max} {step} bind:value {placeholder} />
</label>
