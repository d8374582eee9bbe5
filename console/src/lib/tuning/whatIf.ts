/** What something would change over many machines, in words. */
import { api, type Schema } from '$lib/api/client';
import { answerOf } from '$lib/api/queries';
import { count } from '$lib/words';
import type { Scope } from './rule';

type Line = Schema['WhatIfLine'];

/** On how many machines it stays, and why; empty where on none. */
export function staysInWords(line: Line): string {
  const parts = Object.entries(line.kept_on ?? {}).map(
    ([reason, ids]) => `on ${ids.length} (${reason})`
  );
  return parts.length ? `stays ${parts.join(', ')}` : '';
}

/** On how many machines it changes and stays. */
export function lineInWords(line: Line): string {
  const many = line.changes_on?.length ?? 0;
  const becomes = line.becomes ? ` to ${line.becomes}` : '';
  const yes = line.needs_approval && many ? ', each with a yes' : '';
  const changes = many ? `changes${becomes} on ${count(many, 'machine')}${yes}` : 'changes nowhere';
  return [changes, staysInWords(line)].filter(Boolean).join('; ');
}

type Edit =
  | { kind: 'program'; edit: Schema['ProgramRuleEdit'] }
  | { kind: 'setting'; edit: Schema['TuningRuleEdit'] };

/** Asks what a rule would change on the machines that it holds for. */
export function askRule(path: { scope: Scope; subject_id: number }, asked: Edit) {
  return {
    queryKey: ['rule-what-if', path, asked] as const,
    queryFn: ({ signal }: { signal: AbortSignal }) =>
      answerOf<Schema['RuleWhatIf']>(
        asked.kind === 'program'
          ? api.POST('/api/v2/program-rules/{scope}/{subject_id}/what-if', {
              params: { path },
              body: asked.edit,
              signal
            })
          : api.POST('/api/v2/setting-rules/{scope}/{subject_id}/what-if', {
              params: { path },
              body: asked.edit,
              signal
            })
      )
  };
}
