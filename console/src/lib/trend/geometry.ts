/** Where the parts of a trend's chart lie: scales, ticks and paths. */
import type { Trend } from '$lib/api/client';
import { offsetAt, shortMonth } from '$lib/words';
import { scaleLinear, scaleUtc, type ScaleTime } from 'd3-scale';
import { area, line } from 'd3-shape';

const DAY = 86_400_000;
const MONDAY = Date.UTC(1970, 0, 5);
/** Days between two ticks. */
const STEPS = [1, 2, 3, 4, 5, 7, 14];
const GIB = 1024 ** 3;
export const MARGIN = { left: 64, right: 44, top: 14, bottom: 28 };
export const HEIGHT = 288;

interface Spot {
  at: string;
  free: number;
}
type ConePoint = { at: string; low: number; likely: number; high: number };

/** From when the chart goes: the beginning of its span, or the first reading where that is much
 * later, as it is of all there is. */
function beginOf(trend: Trend): number {
  const [begin, end] = [Date.parse(trend.since), Date.parse(trend.until)];
  const first = trend.points[0];
  return first && Date.parse(first.at) - begin > (end - begin) / 2 ? Date.parse(first.at) : begin;
}

/** Until when the chart goes: the end of its span, and a third of it more where that is now. */
function endOf(trend: Trend): number {
  const [begin, end] = [beginOf(trend), Date.parse(trend.until)];
  const last = trend.points.at(-1);
  const isNow = last !== undefined && end - Date.parse(last.at) < 15 * DAY;
  if (!trend.outlook?.cone.length || !isNow) return end;
  return end + Math.max(14 * DAY, (end - begin) / 3);
}

/** What may come, from the last reading on. */
function coneOf(trend: Trend, end: number): ConePoint[] {
  const last = trend.points.at(-1);
  if (!trend.outlook || !last || end === Date.parse(trend.until)) return [];
  const now = { at: last.at, low: last.free, likely: last.free, high: last.free };
  return [now, ...trend.outlook.cone.filter((point) => Date.parse(point.at) <= end)];
}

/** Ticks at even distances: some days as they follow each other, whatever month they are in; else
 * hours, months or years. */
function ticksOf(x: ScaleTime<number, number>, most: number): Date[] {
  const [begin, end] = x.domain().map(Number) as [number, number];
  const days = (end - begin) / DAY;
  const step = STEPS.find((step) => days / step <= most);
  if (days < 3 || step === undefined) return x.ticks(most);
  // from a Monday on, so that weeks begin where they do
  const first = Math.ceil((begin - MONDAY) / (step * DAY)) * step * DAY + MONDAY;
  const ticks = [];
  for (let at = first; at <= end; at += step * DAY) ticks.push(new Date(at));
  return ticks;
}

/** How a tick is written, by the distance to the next. */
function labels(step: number) {
  const month = (at: Date) => shortMonth(at.getUTCMonth());
  if (step >= 27 * DAY)
    return (at: Date) =>
      at.getUTCMonth() === 0 ? `${month(at)} ${at.getUTCFullYear()}` : month(at);
  if (step >= DAY) return (at: Date) => `${at.getUTCDate()} ${month(at)}`;
  return (at: Date) => at.toISOString().slice(11, 16);
}

/** All that is drawn, for a width in pixels. */
export function geometry(trend: Trend, width: number) {
  const end = endOf(trend);
  const cone = coneOf(trend, end);
  // the shop's clock, written as if it were UTC, so that days begin where the shop's do
  const shift = offsetAt(Date.parse(trend.until));
  const local = (at: string | number) => (typeof at === 'string' ? Date.parse(at) : at) + shift;
  const x = scaleUtc()
    .domain([local(beginOf(trend)), local(end)])
    .range([MARGIN.left, Math.max(MARGIN.left + 1, width - MARGIN.right)]);
  const highest = Math.max(
    ...trend.points.map((point) => point.free),
    ...cone.map((point) => point.high),
    1
  );
  const y = scaleLinear()
    .domain([0, highest / GIB])
    .nice(5)
    .range([HEIGHT - MARGIN.bottom, MARGIN.top]);
  const atX = (at: string | number) => x(local(at));
  const atY = (bytes: number) => y(bytes / GIB);
  const free = (draw: typeof line<Spot>) =>
    draw()
      .x((point) => atX(point.at))
      .y((point) => atY(point.free));
  const ticks = ticksOf(x, Math.max(3, Math.min(8, Math.round(width / 85))));
  const write = labels(ticks.length > 1 ? Number(ticks[1]) - Number(ticks[0]) : DAY);
  const last = trend.points.at(-1);
  const threshold = last ? last.capacity * (1 - trend.threshold_percent / 100) : 0;
  return {
    end,
    cone,
    atX,
    atY,
    line: free(line)(trend.points) ?? '',
    under:
      area<Spot>()
        .x((point) => atX(point.at))
        .y0(atY(0))
        .y1((point) => atY(point.free))(trend.points) ?? '',
    coneArea:
      area<ConePoint>()
        .x((point) => atX(point.at))
        .y0((point) => atY(point.low))
        .y1((point) => atY(point.high))(cone) ?? '',
    likely:
      line<ConePoint>()
        .x((point) => atX(point.at))
        .y((point) => atY(point.likely))(cone) ?? '',
    xTicks: ticks.map((at) => ({ at: x(at), text: write(at) })),
    yTicks: y.ticks(5).map((value) => ({ at: y(value), text: `${value} GiB` })),
    threshold: threshold > 0 && threshold <= highest * 1.2 ? atY(threshold) : null
  };
}

/** What was free at a moment: the last reading before it. */
export function freeAt(trend: Trend, at: string): number {
  let free = trend.points[0]?.free ?? 0;
  for (const point of trend.points) if (Date.parse(point.at) <= Date.parse(at)) free = point.free;
  return free;
}

/** The index of the point that is nearest to a place. */
export function nearest(places: number[], place: number): number {
  let best = -1;
  for (const [index, other] of places.entries()) {
    if (best < 0 || Math.abs(other - place) < Math.abs(places[best]! - place)) best = index;
  }
  return best;
}
