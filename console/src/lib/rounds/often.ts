/** How often, as it is chosen without typing: from a recurrence rule, and into plain words. */

export const DAYS = {
  MO: 'Monday',
  TU: 'Tuesday',
  WE: 'Wednesday',
  TH: 'Thursday',
  FR: 'Friday',
  SA: 'Saturday',
  SU: 'Sunday'
} as const;
export type Day = keyof typeof DAYS;
export const MONTHS = [
  'January',
  'February',
  'March',
  'April',
  'May',
  'June',
  'July',
  'August',
  'September',
  'October',
  'November',
  'December'
];
export const PLACES = { 1: 'first', 2: 'second', 3: 'third', 4: 'fourth', '-1': 'last' } as const;
export type Place = keyof typeof PLACES;
export const UNITS = ['day', 'week', 'month', 'year'] as const;
export type Unit = (typeof UNITS)[number];

export interface Often {
  every: number;
  unit: Unit;
  /** Of a week. */
  days: Day[];
  /** Of a month: the day on which it starts, dates, or a place. */
  on: 'start' | 'dates' | 'place';
  /** -1 is the last day. */
  dates: number[];
  place: Place;
  placeDay: Day | 'working day';
  /** Of a year, from 1; 0 is the day on which it starts. */
  month: number;
  ends: 'never' | 'times' | 'until';
  times: number;
  until: string;
}

const WORKING = 'MO,TU,WE,TH,FR';
const FREQUENCIES: Record<string, Unit> = {
  DAILY: 'day',
  WEEKLY: 'week',
  MONTHLY: 'month',
  YEARLY: 'year'
};
export const WEEKLY: Often = {
  every: 1,
  unit: 'week',
  days: ['TU'],
  on: 'start',
  dates: [1],
  place: 1,
  placeDay: 'MO',
  month: 0,
  ends: 'never',
  times: 5,
  until: ''
};

const isDay = (text: string): text is Day => text in DAYS;
const isPlace = (text: string) => text in PLACES;

/** What a rule says, or null for one that can only be written. */
export function oftenOf(rule: string | null | undefined): Often | null {
  if (!rule) return null;
  const parts = Object.fromEntries(
    rule.split(';').map((part) => part.split('=') as [string, string])
  );
  const { FREQ, INTERVAL, BYDAY, BYMONTHDAY, BYMONTH, BYSETPOS, COUNT, UNTIL, ...others } = parts;
  const unit = FREQUENCIES[FREQ ?? ''];
  if (!unit || Object.keys(others).length) return null;
  const often: Often = { ...WEEKLY, unit, every: Number(INTERVAL ?? 1), days: [] };
  if (COUNT) Object.assign(often, { ends: 'times', times: Number(COUNT) });
  if (UNTIL)
    Object.assign(often, {
      ends: 'until',
      until: UNTIL.slice(0, 8).replace(/(....)(..)(..)/, '$1-$2-$3')
    });
  const by = [BYDAY && 'day', BYMONTHDAY && 'date', BYMONTH && 'month', BYSETPOS && 'place']
    .filter(Boolean)
    .join(' ');
  if (!by) return often;
  switch (`${unit} ${by}`) {
    case 'week day': {
      const days = BYDAY!.split(',');
      return days.every(isDay) ? { ...often, days } : null;
    }
    case 'month date': {
      const dates = BYMONTHDAY!.split(',').map(Number);
      return dates.every((date) => date >= -1) ? { ...often, on: 'dates', dates } : null;
    }
    case 'month day': {
      const match = /^(-?\d)([A-Z]{2})$/.exec(BYDAY!);
      const [, place, day] = match ?? [];
      if (!place || !day || !isPlace(place) || !isDay(day)) return null;
      return { ...often, on: 'place', place: Number(place) as Place, placeDay: day };
    }
    case 'month day place':
      if (BYDAY !== WORKING || !isPlace(BYSETPOS!)) return null;
      return { ...often, on: 'place', place: Number(BYSETPOS) as Place, placeDay: 'working day' };
    case 'year date month': {
      const [date, month] = [Number(BYMONTHDAY), Number(BYMONTH)];
      return date > 0 && month ? { ...often, month, dates: [date] } : null;
    }
  }
  return null;
}

function listed(words: string[]): string {
  return words.length < 2 ? words.join('') : `${words.slice(0, -1).join(', ')} and ${words.at(-1)}`;
}

export function ordinal(number: number): string {
  const ending = { 1: 'st', 2: 'nd', 3: 'rd' }[number % 10] ?? 'th';
  return `${number}${number % 100 > 10 && number % 100 < 21 ? 'th' : ending}`;
}

function howOften(often: Often): string {
  const { every, unit } = often;
  const span = every === 1 ? `every ${unit}` : `every ${every} ${unit}s`;
  const order = Object.keys(DAYS);
  const days = [...often.days].sort((a, b) => order.indexOf(a) - order.indexOf(b));
  const names = listed(days.map((day) => DAYS[day]));
  switch (unit) {
    case 'day':
      return span;
    case 'week':
      if (!days.length) return span;
      return every === 1 ? `every ${names}` : `${span} on ${names}`;
    case 'month': {
      if (often.on === 'start' || (often.on === 'dates' && !often.dates.length)) return span;
      const dates = [...often.dates].sort((a, b) => (a < 0 ? 99 : a) - (b < 0 ? 99 : b));
      const day = often.placeDay === 'working day' ? 'working day' : DAYS[often.placeDay];
      return often.on === 'place'
        ? `${span} on the ${PLACES[often.place]} ${day}`
        : `${span} on ${listed(dates.map((date) => (date < 0 ? 'the last day' : `the ${ordinal(date)}`)))}`;
    }
    case 'year':
      return often.month ? `${span} on ${often.dates[0] ?? 1} ${MONTHS[often.month - 1]}` : span;
  }
}

/** The plain words of what was chosen, which the service reads as the same. */
export function wordsOf(often: Often): string {
  const end =
    often.ends === 'times'
      ? `, ${often.times} time${often.times === 1 ? '' : 's'}`
      : often.ends === 'until' && often.until
        ? `, until ${often.until}`
        : '';
  return howOften(often) + end;
}
