/** Sizes and times as people read them. */

const UNITS = ['B', 'KiB', 'MiB', 'GiB', 'TiB', 'PiB'];

/** Bytes in binary units with one decimal, as everywhere in Phylax. */
export function size(bytes: number | null | undefined): string {
  if (bytes === null || bytes === undefined) return '–';
  if (bytes < 0) return `-${size(-bytes)}`;
  let value = bytes;
  let unit = 0;
  while (value >= 1023.95 && unit < UNITS.length - 1) {
    value /= 1024;
    unit += 1;
  }
  return unit === 0 ? `${bytes} B` : `${value.toFixed(1)} ${UNITS[unit]}`;
}

export function share(part: number, whole: number): string {
  if (whole <= 0) return '0 %';
  const percent = Math.round((100 * part) / whole);
  return `${part < whole ? Math.min(percent, 99) : percent} %`;
}

export const NUMBER = new Intl.NumberFormat('en-IE');

export function count(number: number, noun: string): string {
  const plural = /[^aeiou]y$/.test(noun) ? `${noun.slice(0, -1)}ies` : `${noun}s`;
  return `${NUMBER.format(number)} ${number === 1 ? noun : plural}`;
}

/** A stretch of time as people say it while they wait: "40 s", "12 min", "3 h 20 min". */
export function stretch(seconds: number): string {
  if (seconds < 60) return `${seconds} s`;
  const minutes = Math.round(seconds / 60);
  if (minutes < 60) return `${minutes} min`;
  const rest = minutes % 60;
  return `${Math.floor(minutes / 60)} h${rest ? ` ${rest} min` : ''}`;
}

/** The shop's time zone; set once the shop is known. */
let zone: string | undefined;
const formats = new Map<string, Intl.DateTimeFormat>();
export function setZone(name: string) {
  if (zone !== name) formats.clear();
  zone = name;
}

/** A formatter in the shop's zone, made once: making one costs a hundred times as much as using it. */
function format(name: string, locale: string, options: Intl.DateTimeFormatOptions) {
  let made = formats.get(name);
  if (!made) {
    made = new Intl.DateTimeFormat(locale, { timeZone: zone, ...options });
    formats.set(name, made);
  }
  return made;
}

function dayOf(at: Date): string {
  return format('day', 'en-CA', { year: 'numeric', month: '2-digit', day: '2-digit' }).format(at);
}

export function clock(at: Date): string {
  return format('clock', 'en-GB', { hour: '2-digit', minute: '2-digit' }).format(at);
}

/** "today 18:42", "yesterday 18:42", "tomorrow 18:42", else "Tue 1 Dec 18:42", with the year
 * instead of the weekday where it is another. */
export function when(text: string | null | undefined, now = new Date()): string {
  if (!text) return '–';
  const at = new Date(text);
  const days = Math.round((Date.parse(dayOf(at)) - Date.parse(dayOf(now))) / 86_400_000);
  if (days === 0) return `today ${clock(at)}`;
  if (days === -1) return `yesterday ${clock(at)}`;
  if (days === 1) return `tomorrow ${clock(at)}`;
  const same = dayOf(at).slice(0, 4) === dayOf(now).slice(0, 4);
  const day = format(same ? 'weekday' : 'year', 'en-GB', {
    weekday: same ? 'short' : undefined,
    day: 'numeric',
    month: 'short',
    year: same ? undefined : 'numeric'
  }).format(at);
  return `${day.replace(',', '').replace('Sept', 'Sep')} ${clock(at)}`;
}

/** A day: "24 Nov", with the year where it is another. */
export function day(text: string | null | undefined, now = new Date()): string {
  if (!text) return '–';
  const at = new Date(text);
  const same = dayOf(at).slice(0, 4) === dayOf(now).slice(0, 4);
  return format(same ? 'short' : 'year', 'en-GB', {
    day: 'numeric',
    month: 'short',
    year: same ? undefined : 'numeric'
  })
    .format(at)
    .replace('Sept', 'Sep');
}

/** Bytes that may be fewer than none. */
export function signed(bytes: number): string {
  return bytes < 0 ? `−${size(-bytes)}` : size(bytes);
}

/** When a level is crossed, as a range. */
export function crossing(
  found: { soonest?: string | null; likely?: string | null; latest?: string | null } | null
): string {
  if (!found?.soonest) return 'not within two years';
  if (day(found.soonest) === day(found.latest)) return `on ${day(found.likely)}`;
  const likely = found.likely ? `likely ${day(found.likely)}` : 'likely not within two years';
  const latest = found.latest ? `latest ${day(found.latest)}` : 'perhaps much later';
  return `${likely}, soonest ${day(found.soonest)}, ${latest}`;
}

export function full(text: string | null | undefined): string {
  if (!text) return '';
  return format('full', 'en-GB', { dateStyle: 'full', timeStyle: 'medium' }).format(new Date(text));
}

/** Days in an ISO 8601 duration, as rules use them; hours and less are a fraction of one. */
export function daysOf(span: string): number {
  const match = /^P(?:(\d+)W)?(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?$/.exec(span);
  const [weeks, days, hours, minutes, seconds] = [1, 2, 3, 4, 5].map((n) =>
    Number(match?.[n] ?? 0)
  );
  return 7 * weeks! + days! + (hours! + (minutes! + seconds! / 60) / 60) / 24;
}

/** The ISO 8601 duration of so many days; a fraction is told to the second. */
export function spanOf(days: number): string {
  return Number.isInteger(days) ? `P${days}D` : `PT${Math.round(days * 86_400)}S`;
}

/** The day and the hour, with its fraction, that the shop's clock shows at a moment. */
export function local(text: string): { day: string; hour: number } {
  const at = new Date(text);
  const [hours, minutes] = clock(at).split(':').map(Number);
  return { day: dayOf(at), hour: hours! + minutes! / 60 };
}

/** "Tuesday 24 November" of a day such as "2026-11-24". */
export function dayName(day: string): string {
  return new Date(`${day}T12:00:00Z`).toLocaleDateString('en-GB', {
    timeZone: 'UTC',
    weekday: 'long',
    day: 'numeric',
    month: 'long'
  });
}

/** The day some days later, as "2026-11-24". */
export function later(day: string, days: number): string {
  return new Date(Date.parse(`${day}T12:00:00Z`) + days * 86_400_000).toISOString().slice(0, 10);
}

export function today(now = new Date()): string {
  return dayOf(now);
}

/** A day as an address has it, such as "2026-11-24"; nothing where it is none. */
export function dayIn(text: string | null): string {
  return text && /^\d{4}-\d\d-\d\d$/.test(text) && !Number.isNaN(Date.parse(`${text}T00:00Z`))
    ? text
    : '';
}

/** The moment at which the shop's clock shows a date and time such as "2026-11-24T18:00", in UTC as
 * the service takes it. */
export function momentOf(local: string): string {
  const shown = Date.parse(`${local}Z`);
  // twice: the offset at the guess may be another than the one there
  let moment = shown;
  for (let step = 0; step < 2; step += 1) moment = shown - offsetAt(moment);
  return new Date(moment).toISOString();
}

/** The moment at which a day begins in the shop's zone. */
export function dayStart(day: string): string {
  return momentOf(`${day}T00:00`);
}

/** How far the shop's clock is ahead of UTC at a moment, in milliseconds. */
export function offsetAt(moment: number): number {
  const at = new Date(moment);
  return Date.parse(`${dayOf(at)}T${clock(at)}:00Z`) - Math.floor(moment / 60_000) * 60_000;
}
