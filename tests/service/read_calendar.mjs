// Reads an iCalendar object with ical.js, strictly; writes its events as JSON.
import { createRequire } from 'node:module';
import { readFileSync } from 'node:fs';

const found = createRequire(process.argv[2])('ical.js');
const ICAL = found.default ?? found;
ICAL.design.strict = true;
const text = readFileSync(0, 'utf8');
const calendar = new ICAL.Component(ICAL.parse(text));
const own = (part, name) => part.getFirstPropertyValue(name)?.toString();
const events = calendar.getAllSubcomponents('vevent').map((part) => {
	const event = new ICAL.Event(part, { strictExceptions: true });
	return {
		uid: event.uid,
		summary: event.summary,
		description: event.description,
		location: event.location,
		starts: event.startDate.toJSDate().toISOString(),
		ends: event.endDate.toJSDate().toISOString(),
		zone: event.startDate.zone.tzid,
		status: own(part, 'status'),
		sequence: event.sequence,
		stamp: own(part, 'dtstamp')
	};
});
const lines = text.split('\r\n');
process.stdout.write(
	JSON.stringify({
		version: own(calendar, 'version'),
		prodid: own(calendar, 'prodid'),
		name: own(calendar, 'name'),
		longest: Math.max(...lines.map((line) => Buffer.byteLength(line))),
		bare: lines.some((line) => line.includes('\n')),
		events
	})
);
