/** Volumes that somebody leaves out of a survey or a cleaning, and what goes on the others. */
import type { Ledger, LedgerLine, Schema } from '$lib/api/client';

export type Choice = Schema['VolumeChoice'];
type Tally = Schema['Tally'];

/** An item that was ticked in a listing. */
export interface ChosenItem {
  size: number;
  /** Its volume; empty where that is not known. */
  mount: string;
}

/** Ticked items of `ask` categories, by their number in the survey's listing. */
export type Agreed = Record<string, Record<number, ChosenItem>>;

/** What was ticked of a line on volumes that are not left out, with its numbers. */
export const tickedOn = (line: LedgerLine, agreed: Agreed, leftOut: ReadonlySet<string>) =>
  Object.entries(agreed[line.category] ?? {})
    .filter(([, item]) => !leftOut.has(item.mount))
    .map(([number, item]): [number, ChosenItem] => [Number(number), item]);

export const everything: Choice = { only: [], but: [] };
export const allBut = (names: Iterable<string>): Choice => ({ only: [], but: [...names] });

/** A choice from a way and names as somebody types them. */
export function choiceOf(way: 'all' | 'only' | 'but', names: string): Choice {
  const typed = names
    .split(',')
    .map((name) => name.trim())
    .filter(Boolean);
  // where nothing was typed the service says so; it must never mean all
  return { ...everything, ...(way === 'all' ? {} : { [way]: typed.length ? typed : [names] }) };
}

/** Names as people list them: "C:, D: and E:". */
export function listed(names: string[]): string {
  return names.length > 1
    ? `${names.slice(0, -1).join(', ')} and ${names.at(-1)}`
    : (names[0] ?? '');
}

/** A choice in words; empty for all volumes. */
export function inWords(choice: Choice): string {
  if (choice.only.length) return `${listed(choice.only)} only`;
  return choice.but.length ? `all but ${listed(choice.but)}` : '';
}

export function add(tallies: Tally[]): Tally {
  return tallies.reduce(
    (sum, tally) => ({ count: sum.count + tally.count, size: sum.size + tally.size }),
    { count: 0, size: 0 }
  );
}

/** The parts of a line on volumes that are not left out. */
export const partsOn = (line: LedgerLine, leftOut: ReadonlySet<string>) =>
  (line.parts ?? []).filter((part) => !leftOut.has(part.mount));

/** What of a line goes on the others: by its rule, or what needs approval. */
export const lets = (line: LedgerLine, leftOut: ReadonlySet<string>) =>
  add(
    partsOn(line, leftOut).map((part) =>
      line.caution === 'ask' ? part.needs_approval : part.removable
    )
  );

/** For each volume what goes of some lines, and of items that were ticked one by one. */
export function byVolume(
  ledger: Ledger,
  lines: LedgerLine[],
  ticked: ChosenItem[]
): { mount: string; goes: Tally }[] {
  return ledger.volumes.map(({ mount }) => ({
    mount,
    goes: add([
      ...lines.flatMap((line) =>
        (line.parts ?? [])
          .filter((part) => part.mount === mount)
          .map((part) => (line.caution === 'ask' ? part.needs_approval : part.removable))
      ),
      ...ticked
        .filter((item) => item.mount === mount)
        .map((item) => ({ count: 1, size: item.size }))
    ])
  }));
}
