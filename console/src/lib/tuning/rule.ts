/** A rule for a program, in words. */
import type { Schema } from '$lib/api/client';

export function ruleInWords(rule: Schema['ProgramRule']): string {
  const parts = [];
  if (rule.leave) parts.push('stays as it is');
  if (rule.intent) parts.push(`runs ${rule.intent}`);
  if (rule.put_right) parts.push('put right by rounds when somebody alters it');
  if (rule.put_right === false) parts.push('not put right by rounds');
  return parts.join('; ') || 'says nothing';
}
