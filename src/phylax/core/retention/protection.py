"""The protect list: folders, patterns and web sites that always stay.

Each scope only adds. Patterns follow gitignore's syntax (by the pathspec library), matched against
the whole path as the machine's people write it, with '/' between the names and without the first
one: `home/anna/Scans/a.tif`, `C:/Users/anna/a.tif`.
"""

from __future__ import annotations

import re
import unicodedata
import warnings
from collections.abc import Callable, Iterable
from contextlib import suppress
from enum import StrEnum
from functools import cached_property

from pydantic import Field, model_validator

from phylax.core.ground.machines import System
from phylax.core.ground.values import Demand, Moment, Value
from phylax.core.retention.rules import Scope

_REPEATED = re.compile(r"/(?:\.?/)+")
"""'//' and '/./' are one '/'."""
_CASELESS = frozenset({System.WINDOWS, System.MACOS})
_SITE = re.compile(r"(?:[a-z0-9_](?:[a-z0-9_-]{0,61}[a-z0-9_])?\.)*[a-z0-9][a-z0-9-]{0,62}")


class ProtectKind(StrEnum):
    FOLDER = "folder"
    PATTERN = "pattern"
    SITE = "site"


class ProtectEntry(Demand):
    """One protected thing."""

    kind: ProtectKind
    pattern: str = Field(
        min_length=1,
        max_length=1000,
        description="A folder's whole path, a gitignore pattern, or a site's name",
        examples=["*.dcm"],
    )

    @model_validator(mode="after")
    def _can_be_meant(self) -> ProtectEntry:
        if "\0" in self.pattern:
            raise ValueError(f"{self.pattern!r} holds a NUL, which no name does")
        match self.kind:
            case ProtectKind.FOLDER:
                if not (self.pattern.startswith("/") or self.pattern[1:3] in (":\\", ":/")):
                    raise ValueError(
                        f"{self.pattern!r} is not a whole path; write '/srv/archive' or "
                        "'C:\\Archive', or use a pattern"
                    )
                if ".." in re.split(r"[\\/]", self.pattern):
                    raise ValueError(f"{self.pattern!r} must be written without '..'")
            case ProtectKind.PATTERN:
                _regex(self.pattern)
            case ProtectKind.SITE:
                if not all(map(_SITE.fullmatch, site_names(self.pattern))):
                    raise ValueError(
                        f"{self.pattern!r} is not a site's name; write 'tickets.example', "
                        "without 'https://' and without a path"
                    )
        return self


class ScopedProtection(Value):
    """An entry of the protect list, and who added it where."""

    id: int
    scope: Scope
    subject_id: int = Field(description="Number of the client or machine; 0 for the shop")
    subject: str = Field(description="The client's name or the machine's tag; empty for the shop")
    entry: ProtectEntry
    note: str = ""
    added_by: str
    added_at: Moment


class ListedProtection(ScopedProtection):
    """The same, with what it covers on the machines that were asked about."""

    covers: int = Field(description="Machines that have the folder, or things that it keeps")
    covers_nothing: int = Field(description="Machines that were looked at and have neither")
    not_known: int = Field(description="Machines that were not looked at since it was added")
    kept: int = Field(description="Things that it keeps on them, as their newest surveys say")
    kept_size: int = Field(description="Bytes of these")


class ProtectionOnMachine(Value):
    """What one entry covers on one machine."""

    machine_id: int
    tag: str
    client: str
    surveyed_at: Moment | None = Field(description="Of the survey that says so; None: none yet")
    exists: bool = Field(False, description="A folder: the machine has it")
    kept: int = 0
    kept_size: int = 0

    @property
    def covers(self) -> bool:
        return self.exists or self.kept > 0


class NewProtection(Demand):
    """Something that somebody adds to what is protected."""

    scope: Scope
    subject_id: int = Field(0, description="Number of the client or machine; 0 for the shop")
    entry: ProtectEntry
    note: str = Field("", max_length=400, examples=["the practice's picture archive"])


class ProtectTest(Value):
    """Whether something is protected on a machine, and by which entry."""

    asked: str
    protected_by: ScopedProtection | None


def composed(name: str) -> str:
    """A name or path with each letter and its accents as one character, where there is one
    (Unicode's form NFC): systems write the same name either way."""
    return name if name.isascii() else unicodedata.normalize("NFC", name)


def site_names(host: str) -> frozenset[str]:
    """The names under which browsers may note a site: in ASCII, as RFC 3490 makes them, and as
    RFC 5891 does, which keep a few letters apart that the other writes alike."""
    name = composed(host.strip(".").lower())
    if name.isascii():
        return frozenset((name,))
    labels = name.split(".")
    direct = (
        label if label.isascii() else "xn--" + label.encode("punycode").decode("ascii")
        for label in labels
    )
    names = {".".join(direct)}
    # what is too long, or has letters that RFC 3490 does not know, has the one name
    with suppress(UnicodeError):
        names.add(name.encode("idna").decode("ascii"))
    return frozenset(names)


def _regex(pattern: str) -> str:
    """A gitignore pattern as a regular expression on the whole path.

    Raises ValueError for what does not parse, stands for nothing, or would open what is protected.
    """
    from pathspec.patterns.gitignore.spec import GitIgnoreSpecPattern

    pattern = composed(pattern)
    try:
        regex, include = GitIgnoreSpecPattern.pattern_to_regex(pattern)
    except ValueError as error:
        raise ValueError(f"{pattern!r} is not a pattern: {error}") from None
    if include is False:
        raise ValueError(f"{pattern!r} begins with '!': a protect list only adds")
    if regex is None:
        raise ValueError(
            f"{pattern!r} stands for nothing; write a gitignore pattern such as '*.psd' or 'Scans/'"
        )
    try:
        tried = _compiled(regex)
    except re.error as error:
        raise ValueError(f"{pattern!r} is not a pattern: {error}") from None
    if tried.search("a/any.thing") and tried.search("b/c/other"):
        raise ValueError(f"{pattern!r} would protect everything; switch categories off instead")
    # the same group name in each pattern could not be joined
    return re.sub(r"\(\?P<\w+>", "(?:", str(regex))


def _compiled(regex: str, flags: int = 0) -> re.Pattern[str]:
    with warnings.catch_warnings():
        # '[[]' means what gitignore means by it, whatever a later Python may make of it
        warnings.simplefilter("ignore", FutureWarning)
        # a name may hold a line break
        return re.compile(regex, flags | re.DOTALL)


class Protection:
    """The protect list in force on one machine. Empty, it costs nothing."""

    def __init__(
        self,
        entries: Iterable[ProtectEntry],
        system: System,
        real: Callable[[str], str | None] = lambda path: None,
    ) -> None:
        """`real` says where a folder of the list really lies on this machine, links resolved; None:
        where it is written, or nowhere."""
        self.entries = tuple(entries)
        self._caseless = system in _CASELESS
        self._flags = re.IGNORECASE if self._caseless else 0
        written = [(e.pattern, e) for e in self.entries if e.kind is ProtectKind.FOLDER]
        resolved = [(path, e) for what, e in written if (path := real(what)) is not None]
        self._folders = [(self._plain(path).rstrip("/"), e) for path, e in (*written, *resolved)]
        self._sites = {
            name: e
            for e in self.entries if e.kind is ProtectKind.SITE
            for name in site_names(e.pattern)
        }  # fmt: skip
        self._patterns = [e for e in self.entries if e.kind is ProtectKind.PATTERN]

    @cached_property
    def _singly(self) -> list[tuple[re.Pattern[str], ProtectEntry]]:
        return [(_compiled(_regex(e.pattern), self._flags), e) for e in self._patterns]

    @cached_property
    def _joined(self) -> re.Pattern[str] | None:
        if not self._patterns:
            return None
        return _compiled("|".join(_regex(e.pattern) for e in self._patterns), self._flags)

    @property
    def guards_files(self) -> bool:
        """Whether there is a folder or a pattern at all."""
        return bool(self._folders or self._patterns)

    def _plain(self, path: str) -> str:
        """A path as patterns see it: '/' between names, none before the first."""
        path = path.replace("\\", "/") if "\\" in path and path[1:2] == ":" else path
        path = _REPEATED.sub("/", composed(path)).lstrip("/")
        return composed(path.lower()) if self._caseless else path

    def add_folder(self, path: str, entry: ProtectEntry) -> None:
        """One of the list's folders goes by another path as well."""
        folder = (self._plain(path).rstrip("/"), entry)
        if folder not in self._folders:
            self._folders.append(folder)

    def why_folder(self, path: str) -> ProtectEntry | None:
        """The entry of the protected folder that a folder, with all that is in it, lies in."""
        return self._folder_entry(self._plain(path))

    def _folder_entry(self, plain: str) -> ProtectEntry | None:
        for folder, entry in self._folders:
            if not folder or plain == folder or plain.startswith(folder + "/"):
                return entry
        return None

    def keeps(self, path: str) -> bool:
        """Whether a file or folder, by its whole path, is protected."""
        return self.why(path) is not None

    def why_inside(self, path: str) -> ProtectEntry | None:
        """The entry of a protected folder that lies inside this one, or None."""
        inside = self._plain(path) + "/"
        return next((entry for folder, entry in self._folders if folder.startswith(inside)), None)

    def why(self, path: str) -> ProtectEntry | None:
        """The entry that protects a path, or None."""
        plain = self._plain(path)
        if (entry := self._folder_entry(plain)) is not None:
            return entry
        # one question for all patterns first: of a million files most are kept by none
        if self._joined is None or self._joined.search(plain) is None:
            return None
        return next((entry for pattern, entry in self._singly if pattern.search(plain)), None)

    def why_site(self, host: str) -> ProtectEntry | None:
        """The entry that keeps a site, by its name or by one it lies under."""
        for name in site_names(host):
            while name:
                if name in self._sites:
                    return self._sites[name]
                name = name.partition(".")[2]
        return None
