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

let grouped: Intl.NumberFormat | undefined;
/** A whole number with its thousands apart; the formatter is made when one needs it. */
export function inGroups(number: number): string {
  if (Math.abs(number) < 1000) return String(number);
  grouped ??= new Intl.NumberFormat('en-IE');
  return grouped.format(number);
}

export function count(number: number, noun: string): string {
  const plural = /[^aeiou]y$/.test(noun) ? `${noun.slice(0, -1)}ies` : `${noun}s`;
  return `${inGroups(number)} ${number === 1 ? noun : plural}`;
}

/** A stretch of time as people say it while they wait: "40 s", "12 min", "3 h 20 min". */
export function stretch(seconds: number): string {
  if (seconds < 60) return `${seconds} s`;
  const minutes = Math.round(seconds / 60);
  if (minutes < 60) return `${minutes} min`;
  const rest = minutes % 60;
  return `${Math.floor(minutes / 60)} h${rest ? ` ${rest} min` : ''}`;
}

const MONTHS =
  'January February March April May June July August September October November December';
const WEEKDAYS = 'Sunday Monday Tuesday Wednesday Thursday Friday Saturday';
const monthNames = MONTHS.split(' ');
const weekdayNames = WEEKDAYS.split(' ');

/** The shop's time zone; set once the shop is known. */
let zone: string | undefined;
let shopClock: Intl.DateTimeFormat | undefined;
export function setZone(name: string) {
  if (zone !== name) shopClock = undefined;
  zone = name;
}

/** What the shop's clock and calendar show at a moment; the month counts from 0. */
interface Shown {
  year: number;
  month: number;
  date: number;
  time: string;
  seconds: string;
  weekday: string;
}

/** One formatter does for all that is shown: making one costs a hundred times as much as using it. */
function shownAt(at: Date): Shown {
  shopClock ??= new Intl.DateTimeFormat('en-CA', {
    timeZone: zone,
    hourCycle: 'h23',
    year: 'numeric',
    month: '2-digit',
    day: '2-digit',
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit'
  });
  const [year, month, date, hour, minute, seconds] = shopClock.format(at).match(/\d+/g)!;
  const day = new Date(Date.UTC(Number(year), Number(month) - 1, Number(date))).getUTCDay();
  return {
    year: Number(year),
    month: Number(month) - 1,
    date: Number(date),
    time: `${hour}:${minute}`,
    seconds: seconds!,
    weekday: weekdayNames[day]!
  };
}

const two = (number: number) => String(number).padStart(2, '0');
const dayOf = (at: Date) => isoOf(shownAt(at));
const isoOf = (shown: Shown) => `${shown.year}-${two(shown.month + 1)}-${two(shown.date)}`;
/** "Nov" of 10. */
export const shortMonth = (month: number) => monthNames[month]!.slice(0, 3);

export function clock(at: Date): string {
  return shownAt(at).time;
}

/** "today 18:42", "yesterday 18:42", "tomorrow 18:42", else "Tue 1 Dec 18:42", with the year
 * instead of the weekday where it is another. */
export function when(text: string | null | undefined, now = new Date()): string {
  if (!text) return '–';
  const at = shownAt(new Date(text));
  const here = shownAt(now);
  const days = Math.round((Date.parse(isoOf(at)) - Date.parse(isoOf(here))) / 86_400_000);
  if (days === 0) return `today ${at.time}`;
  if (days === -1) return `yesterday ${at.time}`;
  if (days === 1) return `tomorrow ${at.time}`;
  const day = `${at.date} ${shortMonth(at.month)}`;
  if (at.year !== here.year) return `${day} ${at.year} ${at.time}`;
  return `${at.weekday.slice(0, 3)} ${day} ${at.time}`;
}

/** A day: "24 Nov", with the year where it is another. */
export function day(text: string | null | undefined, now = new Date()): string {
  if (!text) return '–';
  const at = shownAt(new Date(text));
  const year = at.year === shownAt(now).year ? '' : ` ${at.year}`;
  return `${at.date} ${shortMonth(at.month)}${year}`;
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
  const at = shownAt(new Date(text));
  return `${at.weekday} ${at.date} ${monthNames[at.month]} ${at.year} at ${at.time}:${at.seconds}`;
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
  const at = shownAt(new Date(text));
  const [hours, minutes] = at.time.split(':').map(Number);
  return { day: isoOf(at), hour: hours! + minutes! / 60 };
}

/** "Tuesday 24 November" of a day such as "2026-11-24". */
export function dayName(day: string): string {
  const at = new Date(`${day}T12:00:00Z`);
  return `${weekdayNames[at.getUTCDay()]} ${at.getUTCDate()} ${monthNames[at.getUTCMonth()]}`;
}

/** The day some days later, as "2026-11-24". */
export function later(day: string, days: number): string {
  return new Date(Date.parse(`${day}T12:00:00Z`) + days * 86_400_000).toISOString().slice(0, 10);
}

export function today(now = new Date()): string {
  return dayOf(now);
}

/** The first and the last day of this month, or of one so many months back. */
export function monthBack(months: number, now = today()): { since: string; until: string } {
  const [year, month] = now.split('-').map(Number) as [number, number];
  const dayAt = (at: number) => new Date(at).toISOString().slice(0, 10);
  return {
    since: dayAt(Date.UTC(year, month - 1 - months, 1)),
    until: dayAt(Date.UTC(year, month - months, 0))
  };
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
  const at = shownAt(new Date(moment));
  return Date.parse(`${isoOf(at)}T${at.time}:00Z`) - Math.floor(moment / 60_000) * 60_000;
}
