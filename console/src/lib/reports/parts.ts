import type { Schema } from '$lib/api/client';

export type ReportAsk = Schema['ReportRequest'];
export type Part = NonNullable<ReportAsk['leave_out']>[number];

// each part, in the order of the report, or it does not compile
export const PARTS = Object.keys({
  'what the client said': true,
  'what was done': true,
  'before and after': true,
  'what was let go': true,
  'what was left': true,
  'what was found': true,
  'what is advised': true,
  'what comes next': true,
  'free space': true
} satisfies Record<Part, true>) as Part[];

export const LANGUAGES = { en: 'English', de: 'German' } satisfies Record<
  NonNullable<ReportAsk['language']>,
  string
>;
