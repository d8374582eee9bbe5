"""What lies in each table of the shop's file: whose rows they are, what of them may be about a
person, what leaves with an archive, and what becomes of it when a client is forgotten.

Every column of text or bytes stands here; a test compares with the schema.
"""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum
from typing import NamedTuple


class Holds(StrEnum):
    """What a column of text or bytes holds."""

    CODE = "code"
    """Words and numbers of the program itself; nobody's."""
    CLIENT = "client"
    """May name a client, their people, machines, files or programs."""
    STAFF = "staff"
    """Somebody of the shop, by name."""
    SHOP = "shop"
    """The shop's own words."""
    SECRET = "secret"
    """Lets somebody in, or opens something: never leaves the file but in a backup."""


class Ends(StrEnum):
    """What becomes of a client's rows when the client is forgotten."""

    DELETED = "deleted"
    BLANKED = "blanked"
    """They stay for their figures, without words."""
    KEPT = "kept"
    """Nothing in them is the client's."""


class Through(NamedTuple):
    """Rows belong to whomever a row of another table belongs to."""

    column: str
    table: str
    key: str = "id"


class Table(NamedTuple):
    """One table."""

    what: str
    of: str | Through | None
    """`machine`, `client`, `self`, `scope`, `listed`, `about`; through another table; None: the
    shop's."""
    ends: Ends
    columns: dict[str, Holds]
    leaves: bool
    """Whether it goes into an archive of the shop."""


def _table(
    what: str,
    of: str | Through | None = None,
    ends: Ends = Ends.KEPT,
    *,
    code: str = "",
    client: str = "",
    staff: str = "",
    shop: str = "",
    secret: str = "",
    leaves: bool = True,
) -> Table:
    columns = {
        column: holds
        for holds, named in (
            (Holds.CODE, code), (Holds.CLIENT, client), (Holds.STAFF, staff), (Holds.SHOP, shop),
            (Holds.SECRET, secret),
        )
        for column in named.split()
    }  # fmt: skip
    return Table(what, of, ends, columns, leaves)


_RUN = Through("run_id", "runs")
_SURVEY = Through("survey_id", "surveys")
_VISIT = Through("visit_id", "visits")
_VOLUME = Through("volume_id", "volumes")
_GONE, _BLANK = Ends.DELETED, Ends.BLANKED

TABLES: dict[str, Table] = {
    # the shop
    "shop": _table("The shop itself: its name, its time zone, its limits.",
                   code="zone uid codes_for", shop="name", staff="changed_by"),
    "restore_epoch": _table("Which life of the records this is.", code="name", leaves=False),
    "data_retention": _table("How long names are kept.", staff="changed_by"),
    "letterhead": _table("What stands above and below reports, and the terms on claim slips.",
                         code="language mark_kind", shop="head foot terms mark",
                         staff="changed_by"),
    "backup_plan": _table("Where backups go, and how many are kept.",
                          code="place public_key", staff="changed_by"),
    "backups": _table("Backups that were made.", code="name place head why", staff="made_by",
                      leaves=False),
    "mail_server": _table("Through which server mail goes.", code="settings",
                          staff="changed_by"),
    "outages": _table("When the service was down."),
    "closing_days": _table("Days on which the shop or a client is closed.", "client", _GONE,
                           code="first last", client="name", staff="added_by"),
    # people
    "people": _table("The people of the shop; without their passwords.", code="role",
                     staff="login name", secret="password codes_secret"),
    "sessions": _table("Who is signed in.", staff="browser address", secret="hash", leaves=False),
    "known_browsers": _table("From where people signed in.", secret="hash", leaves=False),
    "tokens": _table("Tokens of programs.", code="scope", staff="name", secret="hash",
                     leaves=False),
    "one_time_links": _table("Links by which somebody sets a password.", staff="made_by",
                             secret="hash", leaves=False),
    "passkeys": _table("Passkeys of people.", code="host", staff="name",
                       secret="credential public_key", leaves=False),
    "idempotency": _table("Answers that were given within two days.", code="actor key request",
                          client="body", leaves=False),
    "views": _table("Views that people keep of a page.", code="page", client="name query"),
    "audit": _table("What was changed, by whom: the chain of actions.", code="action hashed digest",
                    client="subject before after", staff="who"),
    "audit_parts": _table("The words of actions, with their salts.",
                          code="who_salt subject_salt before_salt after_salt",
                          client="subject before after", staff="who"),
    # clients and machines
    "clients": _table("Clients, and how to reach them.", "self", _BLANK, code="zone uid",
                      client="name contact mail phone note retired_why contact_by hours agreements",
                      staff="changed_by"),
    "machines": _table("Machines, as the desk took them in.", "client", _BLANK,
                       code="system removable needs_approval clock_doubt kept_young",
                       client="tag make model serial note retired_why processor system_version"
                              " used_for used_by location", staff="changed_by"),
    "list_numbers": _table("Numbers that clients and machines had in lists that were taken in.",
                           "listed", _GONE, code="kind", client="number", shop="source"),
    "forgettings": _table("Clients that are to be forgotten, or were.", "client", Ends.BLANKED,
                          code="state waits_for", client="words", shop="why",
                          staff="requested_by"),
    "former_agents": _table("Agents of machines that retired.", "machine", Ends.KEPT,
                          secret="key_hash", leaves=False),
    "erased_entries": _table("Which entries lost words, and which entry says so."),
    "erased_audit": _table("Which actions lost words, and which action says so."),
    "machine_facts": _table("What a machine is, by people and by its agent.", "machine", _GONE,
                            code="name", client="value source"),
    "answers": _table("Answers of clients to questions.", "scope", _GONE,
                      code="scope question answer", client="comment", staff="who"),
    "agents": _table("Agents that may call.", "machine", _GONE, code="kind version",
                     client="host", secret="key_hash", leaves=False),
    "enrolment_codes": _table("One-time codes for agents.", "machine", _GONE, staff="made_by",
                              secret="hash", leaves=False),
    "messages": _table("Messages of agents that were taken in.", "machine", _GONE,
                       code="message_id", leaves=False),
    "presence": _table("In which hours machines were on.", "machine", _GONE, code="hours"),
    "sleeps": _table("When machines slept.", "machine", _GONE),
    "starts": _table("How machines started.", "machine", _GONE, code="boot", client="payload"),
    # volumes
    "volumes": _table("Volumes of machines.", "machine", _GONE, code="disk file_system",
                      client="mount name identity"),
    "volume_lines": _table("Since when a volume is as large as it is.", _VOLUME, _GONE,
                           code="why", client="identity"),
    "volume_cleanings": _table("What cleanings freed on a volume.", _VOLUME, _GONE),
    "readings": _table("Free bytes of volumes, hour by hour.", _VOLUME, _GONE),
    "reading_days": _table("Free bytes of volumes, day by day.", _VOLUME, _GONE),
    "outlooks": _table("What is said of a volume's future.", "machine", _GONE,
                       code="verdict outlook"),
    "outlooks_due": _table("Volumes of which it is to be said anew.", _VOLUME, _GONE),
    # looking and deciding
    "surveys": _table("Surveys.", "machine", _GONE, code="kind", client="lines conditions"),
    "survey_items": _table("Files that a survey lists.", _SURVEY, _GONE, code="category",
                           client="item"),
    "survey_parts": _table("A survey by category and volume.", _SURVEY, _GONE, code="category",
                           client="mount line"),
    "survey_sums": _table("A survey's sums.", "machine", _GONE, code="sums"),
    "profiles": _table("How old and large things are, by category.", "machine", _GONE,
                       code="category ages ranked", client="mount"),
    "freed_weeks": _table("What cleanings freed, by machine and week.", "machine", _GONE,
                          code="category"),
    "shop_weeks": _table("What cleanings freed in the whole shop, by week.", code="category"),
    "rules": _table("Rules of retention.", "scope", _GONE, code="scope category rule",
                    staff="changed_by"),
    "rule_changes": _table("How rules were changed.", "scope", _GONE,
                           code="scope category before after", staff="who"),
    "protections": _table("What is never touched.", "scope", _GONE, code="scope kind",
                          client="pattern note", staff="added_by"),
    "protection_covers": _table("What of it a machine has.", "machine", _GONE, code="kind",
                                client="pattern"),
    "consents": _table("Consents to listings.", "machine", _GONE, code="category",
                       client="comment via", staff="given_by"),
    "consent_items": _table("What a consent covers.", Through("consent_id", "consents"), _GONE),
    "standing_consents": _table("Consents until they are taken back.", "machine", _GONE,
                                code="category", client="comment via",
                                staff="given_by taken_back_by"),
    # work
    "routines": _table("Routines.", code="shipped", shop="name", staff="changed_by"),
    "routine_versions": _table("Each form a routine had.", shop="name note steps put_right",
                               staff="changed_by"),
    "routine_lengths": _table("How long a routine took.", "machine", _GONE, code="recent"),
    "step_lengths": _table("How long a step took.", "machine", _GONE, code="step recent"),
    "rounds": _table("Rounds.", shop="name plan", staff="changed_by"),
    "round_versions": _table("Each form a round had.", shop="plan"),
    "round_machines": _table("Which machines a round takes in, and when next.", "machine", _GONE),
    "postponed": _table("What of a round was put off.", "machine", _GONE, client="comment",
                        staff="who"),
    "runs": _table("Runs: what was done on a machine, when, and what came of it.", "machine",
                   _BLANK, code="work categories state cause protect_digest",
                   client="held_picks settings reason stretches held_up progress expected removed"
                          " held put_back result checks modes action volumes",
                          staff="made_by stop_by",
                   secret="lease"),
    "run_steps": _table("Steps of a run that are done by hand.", _RUN, _GONE,
                        code="kind categories state", shop="title text", client="comment",
                        staff="by"),
    "run_evidence": _table("Salted digests of what a run stood on.", _RUN, _GONE,
                           code="kind salt digest"),
    "snapshots": _table("A machine before and after a run.", _RUN, _GONE, client="before after"),
    "holds": _table("Batches of what is held on machines.", "machine", _GONE, code="category",
                    client="batch mount"),
    "held_items": _table("Files that are or were held.", Through("hold_id", "holds"), _GONE,
                         code="status", client="place path"),
    "repeat_leftovers": _table("Files that cleanings leave again and again.", "machine", _GONE,
                         code="category", client="place path reason"),
    "named_files": _table("Files that were held or left, by name.", "machine", _GONE,
                          code="category", client="place path why"),
    # settings, checks, upkeep
    "settings_surveys": _table("Looks at startup programs.", "machine", _GONE, code="seen",
                             client="unread"),
    "programs": _table("Programs that run by themselves somewhere, each form once.",
                       client="key read_as"),
    "machine_programs": _table("On which machine.", "machine", _GONE),
    "known_programs": _table("What the shop knows of a program.", shop="edit",
                             staff="written_by"),
    "program_rules": _table("What may run by itself.", "scope", _GONE, code="scope rule",
                            client="program", staff="changed_by"),
    "program_names": _table("How installed programs are called, each name once.", client="name"),
    "setting_rules": _table("How settings should be.", "scope", _GONE, code="scope setting",
                            client="rule", staff="changed_by"),
    "changes": _table("Changes of settings.", "machine", _GONE, code="id setting state",
                      client="program person name before after drifted_to comment",
                      staff="who ended_by"),
    "shared_changes": _table("Changes on many machines at once.", code="intent setting",
                             client="program name value comment", staff="who"),
    "shared_change_machines": _table("On which machines.", "machine", _GONE),
    "trials": _table("Trials, and whether they helped.", "machine", _GONE, code="outcome",
                     client="programs judged"),
    "checks": _table("Checks, and what they came to.", "machine", _GONE,
                     code="check_key mode result", client="target checked settled_comment",
                     staff="settled_by"),
    "action_results": _table("What upkeep was done to what.", "machine", _GONE, code="action",
                    client="target part"),
    "inventories": _table("What a machine has: hardware, programs, updates.", "machine", _GONE,
                          code="kind", client="content unread"),
    "installed": _table("Programs that are installed.", "machine", _GONE,
                        client="key name version program"),
    "missing_updates": _table("Updates that are missing.", "machine", _GONE,
                              client="name content"),
    "advice": _table("What clients were advised, and what they said.", "machine", _GONE,
                     code="kind status again_on", client="subject text figures comment by",
                     staff="made_by"),
    # watching
    "attention": _table("What needed somebody.", "machine", _GONE, code="cause",
                        client="subject finding comment", staff="taken_by handled_by"),
    "notice_wishes": _table("What people want to be told.", code="at_once quiet_from quiet_until",
                            staff="mail changed_by"),
    "hooks": _table("Programs that are told; without their secrets.", code="at_once", shop="name",
                    staff="made_by", secret="url secret"),
    "notices": _table("Mails and messages that went out.", Through("report_id", "reports"), _GONE,
                      code="uid kind state", client="receiver subject body html error"),
    "notice_attention": _table("What of attention a notice told.",
                               Through("attention_id", "attention"), _GONE),
    "calendars": _table("Calendars that are read from outside.", "about", _GONE, code="about",
                        client="name", staff="made_by", secret="hash", leaves=False),
    "events": _table("What changed when: by what pages and agents come up to date.", "machine",
                     Ends.KEPT, code="kind"),
    # the record
    "records": _table("The record: entries in their chain.", "machine", _BLANK,
                      code="kind state previous digest hashed attachments evidence erasure",
                      client="text", staff="who"),
    "record_parts": _table("The words of entries, with their salts.", Through("entry", "records"),
                           _BLANK, code="who_salt text_salt", client="text folded", staff="who"),
    "attachments": _table("Pictures and PDFs of entries.", Through("entry", "records"), _GONE,
                          code="kind sha256", client="name content", staff="made_by"),
    "seals": _table("Seals of the record.", code="note"),
    "seal_keys": _table("Public keys by which the record was sealed.",
                        code="public_key handed_over"),
    "visits": _table("Visits.", "machine", _BLANK,
                     code="kind due_on guaranteed_until place turn follow_up_on outcome",
                     client="reported_problem condition accessories loaner shelf todo ready_mail",
                     staff="opened_by closed_by changed_by"),
    "ordered_parts": _table("Parts that were ordered.", _VISIT, _GONE, code="expected state",
                            client="item supplier", staff="ordered_by ended_by"),
    "sealed_notes": _table("Sealed notes; without what is sealed.", _VISIT, _GONE,
                           client="title", staff="made_by", secret="sealed"),
    "sealed_note_readings": _table("Who read a sealed note.", Through("note_id", "sealed_notes"),
                                   _GONE, staff="who"),
    "reports": _table("Reports for clients, as they were made.", "client", _GONE,
                      code="language first last seal", client="title request document pdf sent_to",
                      staff="made_by"),
    "report_machines": _table("Of which machines.", Through("report_id", "reports"), _GONE),
    "report_entries": _table("Of which entries.", Through("report_id", "reports"), _GONE),
}  # fmt: skip

WORKED_OUT = frozenset({"records_text", "files_text"})
"""Indexes of words, made anew from the tables."""


FORMER_NAMES = {
    "keeping": "data_retention", "generation": "restore_epoch", "left_agents": "former_agents",
    "left_again": "repeat_leftovers", "settings_looks": "settings_surveys",
    "acted": "action_results", "erased_deeds": "erased_audit",
}  # fmt: skip
"""Tables by the names that they had before schema 35: archives of that time are loaded."""


def table_named(name: str) -> Table | None:
    """What lies in a table, by its name of today or of before."""
    return TABLES.get(FORMER_NAMES.get(name, name))


def columns_of(holds: Holds) -> Iterator[tuple[str, str]]:
    """Tables and columns that hold something."""
    for name, table in TABLES.items():
        for column, content in table.columns.items():
            if content is holds:
                yield name, column


def of_client(name: str) -> str:
    """The condition under which a row of a table is of the client `:client`; empty: no row is."""
    table = TABLES[name]
    machines = "SELECT id FROM machines WHERE client_id = :client"
    if isinstance(table.of, Through):
        parent = of_client(table.of.table)
        return (
            f"{table.of.column} IN (SELECT {table.of.key} FROM {table.of.table} WHERE {parent})"
            if parent
            else ""
        )
    return {
        None: "",
        "self": "id = :client",
        "client": "client_id = :client",
        "machine": f"machine_id IN ({machines})",
        "scope": "(scope = 'client' AND subject_id = :client OR scope = 'machine' AND"
                 f" subject_id IN ({machines}))",
        "listed": "(kind = 'client' AND subject_id = :client OR kind = 'machine' AND"
                  f" subject_id IN ({machines}))",
        "about": "about = 'client' AND subject_id = :client",
    }[table.of]  # fmt: skip
