/**
 * What to ask for again when the service says that something changed: exactly what is shown of it.
 *
 * An event of a machine concerns the queries of that machine and those over all machines; bursts are
 * folded into one.
 */
import { api, type EventKind, type Machine, type ShopEvent } from './client';
import { askAgain, queries, type Asked } from './queries';

interface Concern {
  paths: Asked[];
  kinds: EventKind[];
  /** Milliseconds in which events are gathered. */
  fold: number;
}

const CONCERNS: Concern[] = [
  {
    paths: ['/api/v2/runs', '/api/v2/runs/{run_id}', '/api/v2/machines/{machine}/holds'],
    kinds: ['run', 'hold', 'survey'],
    fold: 150
  },
  {
    paths: ['/api/v2/machines/{machine}/ledger', '/api/v2/surveys/{survey_id}/ledger'],
    kinds: ['run', 'survey', 'rule', 'consent'],
    fold: 150
  },
  { paths: ['/api/v2/holds/{hold_id}/items'], kinds: ['hold'], fold: 300 },
  { paths: ['/api/v2/machines/{machine}/standing-consents'], kinds: ['consent'], fold: 150 },
  {
    paths: ['/api/v2/machines/{machine}'],
    kinds: ['reading', 'machine', 'record', 'attention', 'run'],
    fold: 300
  },
  {
    paths: ['/api/v2/machines/{machine}/trend', '/api/v2/machines/{machine}/regrowth'],
    kinds: ['reading', 'record'],
    fold: 500
  },
  { paths: ['/api/v2/records'], kinds: ['record'], fold: 500 },
  {
    paths: [
      '/api/v2/visits',
      '/api/v2/visits/{number}',
      '/api/v2/visits/{number}/sealed-notes',
      '/api/v2/ordered-parts'
    ],
    kinds: ['machine'],
    fold: 300
  },
  {
    paths: [
      '/api/v2/machines/{machine}/checks',
      '/api/v2/machines/{machine}/inventories',
      '/api/v2/machines/{machine}/updates',
      '/api/v2/machines/{machine}/advice',
      '/api/v2/runs/{run_id}/acted',
      '/api/v2/installed'
    ],
    kinds: ['check'],
    fold: 150
  },
  { paths: ['/api/v2/runs/{run_id}/comparison'], kinds: ['run'], fold: 150 },
  { paths: ['/api/v2/machines/free-lines'], kinds: ['reading'], fold: 5000 },
  { paths: ['/api/v2/machines/numbers'], kinds: ['machine', 'client', 'shop'], fold: 500 },
  // what is sorted by: rows do not jump at each reading while somebody reads them
  { paths: ['/api/v2/machines/numbers'], kinds: ['reading', 'run', 'round'], fold: 15_000 },
  {
    paths: [
      '/api/v2/protections',
      '/api/v2/machines/{machine}/protections',
      '/api/v2/machines/{machine}/protections/test',
      '/api/v2/rules',
      '/api/v2/rules/{scope}/{subject_id}',
      '/api/v2/machines/{machine}/rules'
    ],
    kinds: ['rule'],
    fold: 200
  },
  {
    paths: ['/api/v2/today', '/api/v2/attention'],
    kinds: ['attention', 'run', 'round', 'machine'],
    fold: 700
  },
  { paths: ['/api/v2/trends', '/api/v2/trends/volumes'], kinds: ['attention', 'run'], fold: 3000 },
  {
    paths: [
      '/api/v2/rounds/agenda',
      '/api/v2/rounds',
      '/api/v2/rounds/{round_id}',
      '/api/v2/rounds/{round_id}/machines',
      '/api/v2/rounds/{round_id}/runs',
      '/api/v2/rounds/{round_id}/habits',
      '/api/v2/machines/{machine}/rounds'
    ],
    kinds: ['round', 'run'],
    fold: 700
  },
  {
    paths: ['/api/v2/waiting-listings'],
    kinds: ['survey', 'run', 'consent'],
    fold: 1000
  },
  { paths: ['/api/v2/clients', '/api/v2/closing-days'], kinds: ['client', 'shop'], fold: 500 },
  {
    paths: ['/api/v2/clients/{client_id}', '/api/v2/clients/{client_id}/forgetting'],
    kinds: ['client'],
    fold: 300
  },
  {
    paths: [
      '/api/v2/machines/{machine}/programs',
      '/api/v2/machines/{machine}/changes',
      '/api/v2/machines/{machine}/trials',
      '/api/v2/answers/{scope}/{subject_id}',
      '/api/v2/known-programs',
      '/api/v2/unknown-programs',
      '/api/v2/program-rules/{scope}/{subject_id}',
      '/api/v2/setting-rules/{scope}/{subject_id}',
      '/api/v2/shared-changes',
      '/api/v2/shared-changes/proposed'
    ],
    kinds: ['setting'],
    fold: 300
  },
  { paths: ['/api/v2/shop'], kinds: ['shop'], fold: 500 }
];

/** What a machine's row shows comes with events of these kinds. */
const ROWS: EventKind[] = ['machine', 'reading', 'run', 'attention'];

const pending = new Map<Concern, { timer: ReturnType<typeof setTimeout>; events: ShopEvent[] }>();

/** Of which machine a query is, where it is of one; its number if that is known yet. */
function machineOf(params: unknown): { tag: string; id: number | undefined } | null {
  const { path, query } = (params ?? {}) as Record<string, Record<string, unknown> | undefined>;
  const tag = path?.machine ?? query?.machine;
  if (typeof tag !== 'string') return null;
  const machine = queries.getQueryData<{ id: number }>([
    '/api/v2/machines/{machine}',
    { path: { machine: tag } }
  ]);
  return { tag, id: machine?.id };
}

function isConcerned(queryKey: readonly unknown[], concern: Concern, events: ShopEvent[]): boolean {
  if (!concern.paths.includes(queryKey[0] as Asked)) return false;
  const machine = machineOf(queryKey[1]);
  if (!machine?.id) return true;
  return events.some((event) => event.machine_id === null || event.machine_id === machine.id);
}

const LIST: Asked = '/api/v2/machines';
const AT_MOST = 20;
let machinesChanged = new Set<number | null>();

/** A machine in the listings of all: its own row is asked for and put in its place. */
async function renewRows(): Promise<void> {
  const ids = machinesChanged;
  machinesChanged = new Set();
  // rows that are not seen now are asked for when they are
  await queries.invalidateQueries({ queryKey: [LIST], type: 'inactive', refetchType: 'none' });
  const lists = queries.getQueriesData<Machine[]>({ queryKey: [LIST], type: 'active' });
  const shown = new Set(lists.flatMap(([, rows]) => (rows ?? []).map((machine) => machine.id)));
  if (ids.has(null) || ids.size > AT_MOST) {
    await queries.invalidateQueries({ queryKey: [LIST], type: 'active' });
    return;
  }
  for (const id of ids) {
    if (id === null || !shown.has(id)) continue;
    const { data } = await api.GET('/api/v2/machines/{machine}', {
      params: { path: { machine: String(id) } }
    });
    if (!data) continue;
    queries.setQueriesData<Machine[]>({ queryKey: [LIST], type: 'active' }, (rows) =>
      rows?.some((machine) => machine.id === id)
        ? rows.map((machine) => (machine.id === id ? data : machine))
        : rows
    );
  }
}

/** Something changed. */
export function changed(event: ShopEvent): void {
  if (ROWS.includes(event.kind)) {
    if (!machinesChanged.size) setTimeout(() => void renewRows(), 500);
    machinesChanged.add(event.machine_id ?? null);
  }
  for (const concern of CONCERNS) {
    if (!concern.kinds.includes(event.kind)) continue;
    const waiting = pending.get(concern);
    if (waiting) {
      waiting.events.push(event);
      continue;
    }
    const events = [event];
    const timer = setTimeout(() => {
      pending.delete(concern);
      void askAgain((queryKey) => isConcerned(queryKey, concern, events));
    }, concern.fold);
    pending.set(concern, { timer, events });
  }
}
