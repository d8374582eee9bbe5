/** What leads through the first days: of a shop that is empty, and of the demo. */
import type { Machine, Run, Schema } from '$lib/api/client';

export interface FirstStep {
  name: string;
  how: string;
  /** Where it is done; empty while a step before it has to come first. */
  href: string;
  done: boolean;
  /** What is noted when it is opened from here. */
  opened?: () => void;
}

/** From an empty shop to its first round. */
export function shopSteps(
  clients: number,
  machines: Machine[],
  runs: Run[],
  rounds: number
): FirstStep[] {
  const machine = machines[0];
  const enrolled = machines.find((known) => known.enrolled);
  const surveyed = runs.some((run) => ['done', 'partly'].includes(run.state));
  const page = (known: Machine | undefined) => (known ? `/machines/${known.tag}` : '');
  return [
    {
      name: 'Write down the first client',
      how: 'A name is enough; or import a list.',
      href: '/clients',
      done: clients > 0
    },
    {
      name: 'Add the first machine',
      how: 'Its tag is what stands on its label, as in front-desk.',
      href: clients ? '/machines/new' : '',
      done: machines.length > 0
    },
    {
      name: 'Put Phylax on it',
      how: 'Its page makes a one-time code, and says what to type on the machine.',
      href: page(machine),
      done: enrolled !== undefined
    },
    {
      name: 'Survey it',
      how: 'A survey changes nothing. It says what would be removed, what stays, and why.',
      href: page(enrolled),
      done: surveyed
    },
    {
      name: 'Make a round',
      how: 'So that it is cleaned again without anybody thinking of it.',
      href: enrolled ? `/rounds/new?machine=${enrolled.tag}` : '',
      done: rounds > 0
    }
  ];
}

interface Seen {
  /** Of oakes-laptop and choir-server. */
  laptop: Run[];
  server: Run[];
  rounds: Schema['Round'][];
  kiosk: number | undefined;
  reports: Schema['Report'][];
  me: string;
  readTrend: boolean;
  opensTrend: () => void;
}

/** The demo in six steps; each counts when it was really done, by whoever is signed in. */
export function tourSteps(seen: Seen): FirstStep[] {
  const mine = (run: Run) => run.made_by === seen.me && !run.round_id;
  const did = (runs: Run[], works: Run['work'][]) =>
    runs.some(
      (run) => mine(run) && works.includes(run.work) && ['done', 'partly'].includes(run.state)
    );
  return [
    {
      name: 'Clean oakes-laptop',
      how: 'Under What would be removed: choose, press Clean…, read the sentence, and watch it go.',
      href: '/machines/oakes-laptop#ledger',
      done: did(seen.laptop, ['clean'])
    },
    {
      name: 'Put something back on choir-server',
      how: 'Eight old downloads are held for two weeks. Under Held: put one back, or all.',
      href: '/machines/choir-server#held',
      done: did(seen.server, ['put back'])
    },
    {
      name: 'Tune oakes-laptop',
      how: 'What starts by itself, and what it costs: answer a question, then Change…',
      href: '/machines/oakes-laptop#tuning',
      done: did(seen.laptop, ['change settings'])
    },
    {
      name: 'Make a round for museum-kiosk',
      how: 'It is off at night: the form says at which hour it is on.',
      href: '/rounds/new?machine=museum-kiosk',
      done: seen.rounds.some(
        (round) =>
          seen.kiosk !== undefined &&
          round.plan.machine_ids.includes(seen.kiosk) &&
          round.name !== 'Kiosk, every night'
      )
    },
    {
      name: 'Read when ferry-tickets is full',
      how: 'The trend says since when it fills faster, what grew, and what would help.',
      href: '/machines/ferry-tickets#trend',
      done: seen.readTrend,
      opened: seen.opensTrend
    },
    {
      name: 'Make a report for a client',
      how: 'Choose what goes in; it reads beside it, and becomes a PDF.',
      href: '/reports/new?machine=oakes-laptop',
      done: seen.reports.some((report) => report.made_by === seen.me)
    }
  ];
}
