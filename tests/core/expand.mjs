// Expands recurrence rules with the rrule package, and finds UTC times by ICU's time zones.
// Reads a JSON array of {rule, start, zone, until, most} from standard input; writes epoch seconds.
import { createRequire } from 'node:module';
import { readFileSync } from 'node:fs';

const { rrulestr } = createRequire(process.argv[2])('rrule');
const clocks = new Map();

function offset(zone, utc) {
	if (!clocks.has(zone)) {
		clocks.set(
			zone,
			new Intl.DateTimeFormat('en-GB', {
				timeZone: zone, hourCycle: 'h23', year: 'numeric', month: '2-digit', day: '2-digit',
				hour: '2-digit', minute: '2-digit', second: '2-digit'
			})
		);
	}
	const part = Object.fromEntries(
		clocks.get(zone).formatToParts(new Date(utc)).map((p) => [p.type, Number(p.value)])
	);
	return Date.UTC(part.year, part.month - 1, part.day, part.hour, part.minute, part.second) - utc;
}

// RFC 5545, 3.3.5: with the offset before the change, in a gap and where a time comes twice
function toUtc(local, zone) {
	const before = offset(zone, local - offset(zone, local) - 6 * 3600e3);
	const first = local - before;
	if (first + offset(zone, first) === local) return first;
	const after = offset(zone, first + 6 * 3600e3);
	const second = local - after;
	return second + offset(zone, second) === local ? second : first;
}

const asked = JSON.parse(readFileSync(0, 'utf8'));
const answer = asked.map(({ rule, start, zone, until, most }) => {
	const set = rrulestr(`DTSTART:${start}Z\nRRULE:${rule}`);
	const found = [];
	set.all((local) => {
		const at = toUtc(local.getTime(), zone) / 1000;
		if (at > until || found.length >= most) return false;
		found.push(at);
		return true;
	});
	return found;
});
process.stdout.write(JSON.stringify(answer));
