"""Whether a cleaning would still be judged as the question before it was judged.

Somebody agrees to the figures of a survey. Where a rule or the protect list is another one by now,
something else would be removed than they were shown: then nothing does.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from hashlib import blake2b
from sqlite3 import Connection

from phylax.core.catalogue import category
from phylax.core.retention import ProtectEntry, RuleInForce
from phylax.core.survey import Survey
from phylax.store.retention import protections, rules
from phylax.store.runs import runs
from phylax.store.survey import surveys


def protect_digest(entries: Iterable[ProtectEntry]) -> str:
    """The same for the same list, whatever its order."""
    listed = sorted(json.dumps([entry.kind, entry.pattern]) for entry in entries)
    return blake2b("\n".join(listed).encode(), digest_size=16).hexdigest()


def why_otherwise(
    conn: Connection, machine_id: int, survey_id: int, categories: Sequence[str]
) -> str:
    """What has changed since a survey that decides on some categories, in words with both versions;
    empty: nothing has."""
    survey = surveys.survey(conn, survey_id)
    if survey is None or survey.machine_id != machine_id:
        return f"there is no survey {survey_id} of this machine"
    changed = [*_changed_rules(conn, survey, categories), *_changed_list(conn, survey)]
    return "; ".join(changed)


def _changed_rules(conn: Connection, survey: Survey, categories: Sequence[str]) -> Iterable[str]:
    now = rules.in_force_on(conn, survey.machine_id)
    then = {line.category: line.rule for line in survey.lines}
    for key in categories:
        kind, before, after = category(key), then.get(key), now.get(key)
        if before is None or after is None or _decides(before) == _decides(after):
            continue
        shown, decides = kind.in_words(before), kind.in_words(after)
        yield f"{kind.name}: shown by “{shown}”, now “{decides}”"


def _decides(rule: RuleInForce) -> RuleInForce:
    """What of a rule decides; where it comes from does not."""
    return rule.model_copy(update={"sources": {}})


def _changed_list(conn: Connection, survey: Survey) -> Iterable[str]:
    listed = protections.in_force_on(conn, survey.machine_id)
    then = runs.protect_digest_of(conn, survey.run_id)
    looked = runs.run(conn, survey.run_id)
    # by the service's own clock, as entries are
    asked_at = survey.started_at if looked is None else looked.made_at
    added = [entry.entry.pattern for entry in listed if entry.added_at >= asked_at]
    # an earlier version did not note it: then only what was added since is known
    now = protect_digest(entry.entry for entry in listed)
    is_same = not added if then is None else then == now
    if not is_same:
        yield "the protect list: " + (
            f"{', '.join(added[:3])} added since" if added else "something was taken off it since"
        )
