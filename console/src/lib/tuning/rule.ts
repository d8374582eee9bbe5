/** Rules for programs and settings, in words, and whom they are for. */
import type { Machine, Schema } from '$lib/api/client';

export type Scope = 'machine' | 'client' | 'shop';
export type Says = 'leave' | 'want' | 'nothing';

/** The number of whom a rule holds for; 0 is the shop. */
export function subjectOf(machine: Machine, scope: Scope): number {
  return { machine: machine.id, client: machine.client_id, shop: 0 }[scope];
}

/** What a scope says so far. */
export function soFar(rule: { changed_by: string } | undefined, words = ''): string {
  return rule ? `So far: ${words}, by ${rule.changed_by}.` : 'No rule yet.';
}

export function ruleInWords(rule: Schema['ProgramRule']): string {
  return joined(rule, rule.intent ? `runs ${rule.intent}` : '');
}

export function settingRuleInWords(setting: Schema['Setting'], rule: Schema['TuningRule']): string {
  return joined(rule, rule.value == null ? '' : `is to be ${shown(setting, rule.value)}`);
}

function joined(rule: { leave?: boolean | null; put_right?: boolean | null }, wish: string) {
  const parts = [rule.leave ? 'stays as it is' : '', wish];
  if (rule.put_right) parts.push('put right by rounds when something alters it');
  if (rule.put_right === false) parts.push('not put right by rounds');
  return parts.filter(Boolean).join('; ') || 'says nothing';
}

/** A value of a setting in words. */
function shown({ choices, unit }: Schema['Setting'], value: boolean | number | string): string {
  if (typeof value === 'boolean') return value ? 'on' : 'off';
  if (typeof value === 'number') return `${value} ${unit}`.trim();
  return choices?.[value] ?? value;
}
