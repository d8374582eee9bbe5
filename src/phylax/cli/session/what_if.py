"""What something would change, in words, before it is said."""

from __future__ import annotations

from phylax.cli.terminal.output import console
from phylax.core.ground.quantities import count
from phylax.core.tuning.what_if import RuleWhatIf, WhatIfLine


def in_words(line: WhatIfLine) -> str:
    """On how many machines something changes and stays."""
    yes = ", with a yes" if line.needs_approval and line.changes_on else ""
    becomes = f" to {line.becomes}" if line.becomes else ""
    changes = f"changes{becomes} on {count(len(line.changes_on), 'machine')}{yes}"
    stays = [f"stays on {len(ids)} ({reason})" for reason, ids in line.kept_on.items()]
    return ", ".join([changes, *stays])


def say_what_if(would: RuleWhatIf) -> None:
    """What a rule would change, against what is in force now."""
    if would.then is None:
        console.print("It was seen on no machine yet.")
        return
    console.print(f"{would.then.name}: {in_words(would.then)}.")
    if would.now is not None and would.now != would.then:
        console.print(f"  As it is now: {in_words(would.now)}.")
