import type { Schema } from './api/client';
import { daysOf, size, spanOf } from './words';

export type Rule = Schema['Rule'];
export type RuleInForce = Schema['RuleInForce'];
export type Scope = Schema['Scope'];

/** A rule as its form holds it: an empty field says nothing. Days, MiB and per cent as numbers. */
export interface RuleDraft {
  off: '' | 'yes' | 'no';
  days: number | null;
  newest: number | null;
  underMiB: number | null;
  underPercent: number | null;
  largerMiB: number | null;
  holdDays: number | null;
  holdYields: number | null;
  pressure: { below: number | null; days: number | null }[];
  saysPressure: boolean;
  folders: string;
}

const MIB = 1024 * 1024;

const mib = (bytes: number | null | undefined) =>
  bytes === null || bytes === undefined ? null : bytes / MIB;
const days = (span: string | null | undefined) => (span ? daysOf(span) : null);

/** What a scope says now, as its form shows it; nothing said is an empty form. */
export function draftOf(rule: Rule | null | undefined): RuleDraft {
  return {
    off: rule?.off === true ? 'yes' : rule?.off === false ? 'no' : '',
    days: days(rule?.keep_for),
    newest: rule?.keep_newest ?? null,
    underMiB: mib(rule?.keep_under),
    underPercent: rule?.keep_under_percent ?? null,
    largerMiB: mib(rule?.only_larger),
    holdDays: days(rule?.hold_for),
    holdYields: rule?.hold_yields_below ?? null,
    pressure: (rule?.pressure ?? []).map((step) => ({
      below: step.below_percent,
      days: daysOf(step.keep_for)
    })),
    saysPressure: rule?.pressure !== null && rule?.pressure !== undefined,
    folders: (rule?.folders ?? []).join('\n')
  };
}

const span = (value: number | null) => (value === null ? null : spanOf(value));
const bytes = (value: number | null) => (value === null ? null : Math.round(value * MIB));

/** What the form says, as the service takes it. */
export function ruleOf(draft: RuleDraft): Rule {
  const folders = draft.folders
    .split('\n')
    .map((folder) => folder.trim())
    .filter(Boolean);
  const steps = draft.pressure.filter((step) => step.below !== null && step.days !== null);
  const said: Rule = {
    off: draft.off === '' ? null : draft.off === 'yes',
    keep_for: span(draft.days),
    keep_newest: draft.newest,
    keep_under: bytes(draft.underMiB),
    keep_under_percent: draft.underPercent,
    only_larger: bytes(draft.largerMiB),
    hold_for: span(draft.holdDays),
    hold_yields_below: draft.holdYields,
    pressure:
      draft.saysPressure || steps.length
        ? steps.map((step) => ({
            below_percent: step.below ?? 0,
            keep_for: span(step.days) ?? 'P0D'
          }))
        : null,
    folders: folders.length ? folders : null
  };
  return said;
}

export function saysNothing(rule: Rule): boolean {
  return Object.values(rule).every((value) => value === null || value === undefined);
}

/** What counts where a field says nothing, as its placeholder. */
export function placeholders(rule: RuleInForce) {
  return {
    days: String(daysOf(rule.keep_for)),
    newest: rule.keep_newest ? String(rule.keep_newest) : 'none',
    under: rule.keep_under ? size(rule.keep_under) : 'no limit',
    percent: rule.keep_under_percent ? String(rule.keep_under_percent) : 'no limit',
    larger: rule.only_larger ? size(rule.only_larger) : 'any size',
    hold: daysOf(rule.hold_for ?? 'P0D') ? String(daysOf(rule.hold_for ?? 'P0D')) : 'not held',
    yields: rule.hold_yields_below ? String(rule.hold_yields_below) : 'it keeps its time'
  };
}

/** A draft in words, field by field, to put two versions side by side. */
export function inFields(draft: RuleDraft): Record<string, string> {
  const text = (value: number | string | null, unit = '') =>
    value === null || value === '' ? '' : `${value}${unit}`;
  return {
    'clean this category': { yes: 'no: off', no: 'yes', '': '' }[draft.off],
    'keep for': text(draft.days, ' days'),
    'keep the newest': text(draft.newest),
    'keep under': text(draft.underMiB, ' MiB'),
    'keep under, share': text(draft.underPercent, ' %'),
    'only larger than': text(draft.largerMiB, ' MiB'),
    'held for': text(draft.holdDays, ' days'),
    'held, early below': text(draft.holdYields, ' % free'),
    'when short of space': draft.pressure
      .map((step) => `below ${step.below} %: ${step.days} days`)
      .join(', '),
    folders: draft.folders
  };
}

const PARTS: Record<string, string> = {
  keep_newest: 'the number kept',
  keep_under: 'the size limit',
  keep_under_percent: 'the share limit',
  only_larger: 'the least size',
  hold_for: 'the time held',
  hold_yields_below: 'the early end of holding',
  pressure: 'the shorter spans',
  folders: 'the folders'
};

/** Which scope each part of a rule comes from: "from the shop; the time held from the client". */
export function origins(rule: RuleInForce, caution: string): string {
  const of = (field: string): string => rule.sources?.[field] ?? 'catalogue';
  const main = rule.off ? of('off') : of('keep_for');
  const others = Object.entries(rule.sources ?? {})
    .filter(([field, scope]) => !rule.off && field !== 'off' && scope !== main)
    .filter(([field]) => field !== 'keep_for')
    .map(([field, scope]) => `${PARTS[field] ?? field.replaceAll('_', ' ')} from the ${scope}`);
  return [`from the ${main}`, ...(caution === 'report' ? [] : others)].join('; ');
}
