import type { Schema } from '$lib/api/client';

// each kind, as people call it, or it does not compile
export const KINDS = {
  machine: 'Machines',
  client: 'Clients',
  visit: 'Visits',
  file: 'Files held or left',
  advice: 'Advice',
  program: 'Programs',
  entry: 'Entries'
} satisfies Record<Schema['HitKind'], string>;

/** A text in pieces: those that were looked for, and those between them. */
export function pieces(text: string, words: string): { text: string; fits: boolean }[] {
  const wanted = words
    .replace(/\b(machine|client|by|kind|from|to):("[^"]*"?|\S*)/g, ' ')
    .split(/[\s"]+/)
    .filter(Boolean)
    .map((word) => word.replace(/[.*+?^${}()|[\]\\]/g, '\\$&'));
  if (!wanted.length) return [{ text, fits: false }];
  return text
    .split(new RegExp(`(${wanted.join('|')})`, 'i'))
    .map((piece, at) => ({ text: piece, fits: at % 2 === 1 }))
    .filter((piece) => piece.text);
}
