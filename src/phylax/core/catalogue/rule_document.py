"""All that a shop says in rules and protect lists, as one TOML file: out, in, and compared.

[shop.trash]
keep_for = "14 days"

[machine.choir-server.downloads]
off = false

[[protect]]
client = "Gannet Row Veterinary Practice"
pattern = "*.dcm"
"""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Mapping
from datetime import timedelta
from typing import Any, Literal, NamedTuple

import tomli_w
from pydantic import Field, ValidationError

from phylax.core.catalogue import catalogue, no_category
from phylax.core.ground.quantities import exact_size, parse_size, parse_span, show_span
from phylax.core.ground.values import Demand, Value
from phylax.core.retention import ProtectEntry, ProtectKind, Rule, Scope

Subject = tuple[Scope, str]
"""A scope and whom it is about: a client's name, a machine's tag, or nothing for the shop."""
_SPANS = ("keep_for", "hold_for")
_SIZES = ("keep_under", "only_larger")
_HEAD = """\
# Retention rules and protect lists. What a scope leaves out, the next one says:
# machine, client, shop, then the catalogue. A limit of 0 lifts that of a farther scope.
"""


class Document(NamedTuple):
    """What the file says."""

    rules: dict[tuple[Subject, str], Rule]
    """By subject and category."""
    protect: list[tuple[Subject, ProtectEntry, str]]
    """Subject, entry, note."""


class NewDocument(Demand):
    """A file that somebody hands in."""

    text: str = Field(max_length=2_000_000, examples=['[shop.trash]\nkeep_for = "14 days"\n'])
    dry_run: bool = Field(True, description="Only show what would change")


class Difference(Value):
    """One thing that a file would change."""

    what: Literal["new rule", "changed rule", "removed rule", "new protection"]
    scope: Scope
    subject: str = Field(description="The client's name or the machine's tag; empty for the shop")
    category: str = ""
    before: str = ""
    after: str = ""


class Differences(Value):
    applied: bool
    differences: tuple[Difference, ...]


def write(document: Document) -> str:
    """The file's text."""
    tables: dict[str, Any] = {}
    order = list(catalogue())
    known = sorted(
        document.rules.items(), key=lambda r: (list(Scope).index(r[0][0][0]), r[0][0][1])
    )
    for ((scope, name), category), rule in sorted(
        known, key=lambda r: order.index(r[0][1]) if r[0][1] in order else len(order)
    ):
        if scope is Scope.SHOP:
            tables.setdefault("shop", {})[category] = _plain(rule)
        else:
            tables.setdefault(str(scope), {}).setdefault(name, {})[category] = _plain(rule)
    ordered: dict[str, Any] = {
        key: tables[key] for key in ("shop", "client", "machine") if key in tables
    }
    entries = ""
    for (scope, name), entry, note in document.protect:
        of = {} if scope is Scope.SHOP else {str(scope): name}
        line = {**of, str(entry.kind): entry.pattern, **({"note": note} if note else {})}
        # a table of its own for each, so that people can add one below
        entries += f"\n[[protect]]\n{tomli_w.dumps(line)}"
    return f"{_HEAD}\n{tomli_w.dumps(ordered)}{entries}"


def _plain(rule: Rule) -> dict[str, Any]:
    """A rule as people write it."""
    fields = {f: getattr(rule, f) for f in Rule.model_fields if getattr(rule, f) is not None}
    for field in fields:
        if field in _SPANS:
            fields[field] = show_span(fields[field])
        elif field in _SIZES:
            fields[field] = exact_size(fields[field])
        elif field == "pressure":
            fields[field] = [
                {"below_percent": s.below_percent, "keep_for": show_span(s.keep_for)}
                for s in fields[field]
            ]
        elif field == "folders":
            fields[field] = list(fields[field])
    return fields


def read(text: str) -> Document:
    """What a file says. ValueError names the table and field that is wrong, and what is allowed."""
    try:
        tables = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise ValueError(f"this is no TOML: {error}") from None
    document = Document({}, [])
    for key, table in tables.items():
        match key:
            case "shop":
                _read_rules(document, (Scope.SHOP, ""), table, "shop")
            case "client" | "machine":
                for name, rules in _table(table, key).items():
                    _read_rules(document, (Scope(key), name), rules, f"{key}.{name}")
            case "protect":
                for number, entry in enumerate(table if isinstance(table, list) else [table], 1):
                    document.protect.append(_read_entry(entry, f"protect, entry {number}"))
            case _:
                raise ValueError(f"[{key}] is not known; there are shop, client, machine, protect")
    return document


def _table(value: Any, place: str) -> Mapping[str, Any]:
    if not isinstance(value, dict):
        raise ValueError(f"[{place}] must be a table")
    return value


def _read_rules(document: Document, subject: Subject, table: Any, place: str) -> None:
    for category, rule_table in _table(table, place).items():
        where = f"{place}.{category}"
        if category not in catalogue():
            raise ValueError(f"[{where}]: {no_category(category)}")
        document.rules[subject, category] = _read_rule(_table(rule_table, where), where)


def _read_rule(said: Mapping[str, Any], place: str) -> Rule:
    fields = dict(said)
    try:
        for field in fields:
            if field in _SPANS:
                fields[field] = _span(fields[field])
            elif field in _SIZES and isinstance(fields[field], str):
                fields[field] = parse_size(fields[field])
            elif field == "pressure" and isinstance(fields[field], list):
                fields[field] = [
                    {**step, "keep_for": _span(step.get("keep_for", ""))} for step in fields[field]
                ]
        return Rule.model_validate(fields)
    except ValidationError as error:
        raise ValueError(f"[{place}]: {in_a_line(error)}") from None
    except (ValueError, AttributeError) as error:
        raise ValueError(f"[{place}]: {error}") from None


def _span(text: object) -> timedelta:
    return parse_span(str(text))


def _read_entry(entry: Any, place: str) -> tuple[Subject, ProtectEntry, str]:
    fields = dict(_table(entry, place))
    subject: Subject = (Scope.SHOP, "")
    if "client" in fields and "machine" in fields:
        raise ValueError(f"[{place}]: say client or machine, not both")
    for scope in (Scope.CLIENT, Scope.MACHINE):
        if str(scope) in fields:
            subject = (scope, str(fields.pop(str(scope))))
    note = str(fields.pop("note", ""))
    if len(fields) != 1 or (kind := next(iter(fields))) not in set(ProtectKind):
        raise ValueError(f"[{place}]: say one of folder, pattern or site")
    try:
        return subject, ProtectEntry(kind=ProtectKind(kind), pattern=str(fields[kind])), note
    except ValidationError as error:
        raise ValueError(f"[{place}]: {in_a_line(error)}") from None


def in_a_line(error: ValidationError) -> str:
    """What pydantic found, without its links and inputs."""
    return "; ".join(
        f"{'.'.join(map(str, detail['loc'])) or 'rule'}: "
        f"{str(detail['msg']).removeprefix('Value error, ')}"
        for detail in error.errors()
    )


def differences(now: Document, wanted: Document) -> Iterable[Difference]:
    """What a file would change. A protection that it leaves out stays: protect lists only add."""
    for key in sorted({*now.rules, *wanted.rules}, key=str):
        (scope, name), category = key
        before, after = now.rules.get(key), wanted.rules.get(key)
        if before == after:
            continue
        what: Literal["new rule", "changed rule", "removed rule"] = (
            "new rule" if before is None else "removed rule" if after is None else "changed rule"
        )
        yield Difference(
            what=what,
            scope=scope,
            subject=name,
            category=category,
            before=_in_words(before),
            after=_in_words(after),
        )
    known = {(subject, entry) for subject, entry, _ in now.protect}
    for subject, entry, _ in wanted.protect:
        if (subject, entry) not in known:
            known.add((subject, entry))
            yield Difference(
                what="new protection",
                scope=subject[0],
                subject=subject[1],
                after=f"{entry.kind} {entry.pattern}",
            )


def _in_words(rule: Rule | None) -> str:
    """What one scope says, field by field."""
    if rule is None:
        return ""
    fields = _plain(rule)
    return ", ".join(f"{field.replace('_', ' ')} {_value(v)}" for field, v in fields.items())


def _value(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return " and ".join(
            f"{v['keep_for']} below {v['below_percent']} %" if isinstance(v, dict) else str(v)
            for v in value
        )
    return str(value)
