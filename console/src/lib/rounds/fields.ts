/** A round as its form holds it, and as the service takes it. */
import type { Round, RoundEdit, Schema } from '$lib/api/client';
import { choiceOf, inWords } from '$lib/machines/volumes';
import { daysOf, today } from '$lib/words';

export type Plan = Round['plan'];

export interface RoundFields {
  name: string;
  routine: string;
  often: string;
  at: string;
  closes: string;
  hours: number;
  outside: boolean;
  minutes: number;
  onClosing: NonNullable<RoundEdit['on_closing_days']>;
  clientsTime: boolean;
  startsOn: string;
  butNot: string;
  pressed: boolean;
  below: number;
  atMostEvery: number;
  caredFor: string;
  filtered: boolean;
  system: string;
  like: string;
  machines: number[];
  clients: number[];
  but: number[];
  /** Which volumes: all, only those named, or all but those. */
  volumes: 'all' | 'only' | 'but';
  /** As typed: "C:, D:". */
  volumeNames: string;
  /** The version these fields began with; 0 for a new round. */
  version: number;
}

export function fieldsOf(round: Round | undefined, machines: number[] = []): RoundFields {
  const plan = round?.plan;
  return {
    name: plan?.name ?? '',
    routine: plan ? String(plan.routine_id) : '',
    often: round ? round.often : 'every Tuesday',
    at: plan?.at.slice(0, 5) ?? '18:30',
    closes: plan?.closes?.slice(0, 5) ?? '',
    hours: plan ? Math.round(24 * daysOf(plan.catch_up)) : 12,
    outside: plan?.late_outside ?? false,
    minutes: plan ? Math.round(1440 * daysOf(plan.spread)) : 10,
    onClosing: plan?.on_closing_days ?? 'next day',
    clientsTime: plan?.zone_of === 'client',
    startsOn: plan?.starts_on ?? today(),
    butNot: plan?.except_dates.join(', ') ?? '',
    pressed: Boolean(plan?.pressure),
    below: plan?.pressure?.below_percent ?? 10,
    atMostEvery: plan?.pressure?.at_most_every ?? 7,
    caredFor: plan?.responsible_id ? String(plan.responsible_id) : '',
    filtered: Boolean(plan?.machines_like),
    system: plan?.machines_like?.systems[0] ?? '',
    like: plan?.machines_like?.words ?? '',
    machines: [...(plan?.machine_ids ?? machines)],
    clients: [...(plan?.client_ids ?? [])],
    but: [...(plan?.except_machine_ids ?? [])],
    volumes: plan?.volumes.only.length ? 'only' : plan?.volumes.but.length ? 'but' : 'all',
    volumeNames: [...(plan?.volumes.only ?? []), ...(plan?.volumes.but ?? [])].join(', '),
    version: round?.version ?? 0
  };
}

export function editOf(f: RoundFields, plan: Plan | undefined): RoundEdit {
  return {
    name: f.name.trim() || 'A round',
    routine_id: Number(f.routine || 1),
    recurrence: f.often.trim() || null,
    at: f.at,
    closes: f.closes || null,
    starts_on: f.startsOn || today(),
    zone_of: f.clientsTime ? 'client' : 'shop',
    except_dates: f.butNot.split(/[\s,]+/).filter(Boolean),
    on_closing_days: f.onClosing,
    catch_up: `PT${f.hours || 0}H`,
    late_outside: f.outside,
    spread: `PT${f.minutes || 0}M`,
    pressure: f.pressed ? { below_percent: f.below, at_most_every: f.atMostEvery } : null,
    machine_ids: f.machines,
    client_ids: f.clients,
    machines_like: f.filtered
      ? { systems: f.system ? [f.system as Schema['System']] : [], words: f.like.trim() }
      : null,
    except_machine_ids: f.but,
    volumes: choiceOf(f.volumes, f.volumeNames),
    responsible_id: f.caredFor ? Number(f.caredFor) : null,
    paused: plan?.paused ?? false,
    paused_until: plan?.paused_until ?? null
  };
}

/** In words, field by field, to put two versions side by side. */
export function inFields(f: RoundFields, routines: { id: number; name: string }[]) {
  const many = (ids: number[], noun: string) =>
    ids.length ? `${ids.length} ${noun}${ids.length === 1 ? '' : 's'} (${ids.join(', ')})` : '';
  return {
    name: f.name,
    routine: routines.find((routine) => String(routine.id) === f.routine)?.name ?? f.routine,
    'how often': f.often,
    'may start from': f.at,
    'must end by': f.closes,
    'if missed, within': `${f.hours} h${f.outside ? ', also outside its window' : ''}`,
    'on a closing day': f.onClosing,
    'first day': f.startsOn,
    'days left out': f.butNot,
    'when short of space': f.pressed ? `below ${f.below} %, every ${f.atMostEvery} days` : '',
    spread: `${f.minutes} min`,
    'time zone': f.clientsTime ? "the client's" : "the shop's",
    responsible: f.caredFor,
    machines: many(f.machines, 'machine'),
    clients: many(f.clients, 'client'),
    'every machine like': f.filtered ? `${f.system || 'any system'} ${f.like}`.trim() : '',
    'left out': many(f.but, 'machine'),
    volumes: inWords(choiceOf(f.volumes, f.volumeNames)) || 'all'
  };
}
