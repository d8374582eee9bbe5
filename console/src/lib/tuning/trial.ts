/** What a trial came to, in words. */
import type { Schema } from '$lib/api/client';
import { count } from '$lib/words';

/** So many starts before a change it takes to compare with. */
const LEAST_BEFORE = 7;

function less(share: number): string {
  const percent = Math.round(100 * share);
  if (percent === 0) return 'the same';
  return `${Math.abs(percent)} % ${percent < 0 ? 'less' : 'more'}`;
}

/** How a start's cost moved, with its range; empty where nothing was judged yet. */
function moved(judged: Schema['Judged']): string {
  const { least, likely, most, own_before: before, own_after: after } = judged;
  if (likely == null || least == null || most == null) return '';
  const own =
    before == null || after == null
      ? ''
      : `what was changed took ${before.toFixed(1)} s of a start, now ${after.toFixed(1)} s; `;
  return `${own}a start as a whole takes ${less(likely)} (between ${less(least)} and ${less(most)})`;
}

export function trialInWords(trial: Schema['Trial']): string {
  const { judged } = trial;
  const known = trial.before.filter((start) => !start.left_out).length;
  if (known < LEAST_BEFORE)
    return `Cannot be told: too few starts from before the change are known (${known}).`;
  const cost = moved(judged);
  const after = `after ${count(judged.judged_after ?? 0, 'start')}`;
  switch (judged.outcome) {
    case 'helped':
      return `It helped: ${cost}, judged ${after}.`;
    case 'made it worse':
      return `It made it worse: ${cost}, judged ${after}. Put it back.`;
    default:
      if (judged.next_judged_after == null)
        return `Cannot be told: ${after} nothing is sure; ${cost}.`;
      if (trial.ended_at)
        return `Cannot be told: it ended after ${count(judged.starts ?? 0, 'start')}.`;
      return `Cannot be told yet: ${count(judged.starts ?? 0, 'start')} since, judged after ${judged.next_judged_after}${cost ? `; so far ${cost}` : ''}.`;
  }
}

/** How the half that was changed moved against the other. */
export function sharedInWords({ judged, rest_at }: Schema['SharedChange']): string {
  if (!judged || judged.likely == null || judged.least == null || judged.most == null)
    return 'Cannot be told yet: three machines of each half need five starts that count.';
  const moved = `a start takes ${less(judged.likely)} than on the other half (between ${less(judged.least)} and ${less(judged.most)})`;
  const until = rest_at ? ', until the others had their turn' : '';
  switch (judged.outcome) {
    case 'helped':
      return `It helped: ${moved}${until}.`;
    case 'made it worse':
      return `It made it worse: ${moved}${until}. Put it back.`;
    default:
      return `Cannot be told yet: so far ${moved}${until}.`;
  }
}
