"""Updates and programs through the real package manager, in a root of its own with a repository
that the test makes; the host's own packages are never asked."""

from __future__ import annotations

from pathlib import Path

import pytest

from apt_root import AptRoot, ended
from phylax.agent.machines.linux.apt import Apt
from phylax.agent.machines.upkeep import Watch
from phylax.agent.survey.task import Stopped
from phylax.core.actions import ActEnd, InstallUpdates, RemoveProgram, TryRemoval
from phylax.core.inventory.programs import Along
from phylax.core.inventory.updates import UpdatesListed


def watch(done: int = 0, of: int | None = None) -> None:
    """Nobody ends it."""


@pytest.fixture
def packages(tmp_path: Path) -> AptRoot:
    return AptRoot(tmp_path)


@pytest.fixture
def apt(packages: AptRoot) -> Apt:
    return Apt(str(packages.root))


def test_what_is_missing_is_listed_with_who_offers_it_and_its_size(
    packages: AptRoot, apt: Apt
) -> None:
    packages.install(packages.make("chat", "1.0"), packages.make("wall", "1.0"),
                     packages.make("same", "1.0"))  # fmt: skip
    packages.offer(packages.make("chat", "1.1"), packages.make("same", "1.0"))
    wall = packages.make("wall", "1:1.2")
    packages.offer(wall, origin="Debian-Security")
    listed = apt.updates(watch)
    assert listed.unread == ""
    updates = {update.name: update for update in listed.updates}
    assert updates.keys() == {"chat", "wall"}
    assert (updates["chat"].now, updates["chat"].version) == ("1.0", "1.1")
    assert not updates["chat"].security and "Quayside" in updates["chat"].origin
    assert updates["wall"].security and updates["wall"].version == "1:1.2"
    assert updates["wall"].size == wall.stat().st_size
    assert packages.version("chat") == "installed 1.0", "looking changes nothing"


def test_lists_that_cannot_be_had_are_no_empty_list(packages: AptRoot, apt: Apt) -> None:
    packages.install(packages.make("chat", "1.0"))
    packages.offer(packages.make("chat", "1.1"))
    assert apt.updates(watch).updates
    packages.index("Quayside", label="Somebody else")
    assert "Somebody else" in apt.updates(watch).unread, "a repository that changed its name"
    (packages.root / "etc/apt/sources.list").write_text("deb [trusted=yes] file:/nowhere ./\n")
    assert apt.updates(watch).unread


def test_updates_are_installed_one_by_one_and_read_back(packages: AptRoot, apt: Apt) -> None:
    packages.install(packages.make("chat", "1.0"), packages.make("bad", "1.0"),
                     packages.make("wall", "1.0"))  # fmt: skip
    packages.offer(packages.make("chat", "1.1"), packages.make("bad", "1.1", script="exit 1"),
                   packages.make("wall", "1.1"))  # fmt: skip
    parts = {
        part.target: part for part in ended(apt.install(InstallUpdates(), watch)) if part.after
    }
    assert parts["chat"].end is ActEnd.DONE
    assert (parts["chat"].before, parts["chat"].after) == ("1.0", "1.1")
    assert packages.version("wall") == "installed 1.1", "a bad one costs only itself"
    again = list(ended(apt.install(InstallUpdates(), watch)))
    assert any(part.target == "bad" and part.end is ActEnd.FAILED for part in again)
    assert any("dpkg --audit" in part.why for part in again), "what is half installed is said"


def test_a_system_below_another_root_goes_by_its_own_settings(
    packages: AptRoot, tmp_path: Path
) -> None:
    """And so not by those of the machine that the tests run on."""
    ran = tmp_path / "ran"
    hook = f'DPkg::Post-Invoke {{"touch {ran}";}};\n'
    (packages.root / "etc/apt/apt.conf.d/90hook").write_text(hook)
    packages.install(packages.make("chat", "1.0"))
    packages.offer(packages.make("chat", "1.1"))
    (part,) = ended(Apt(str(packages.root)).install(InstallUpdates(), watch))
    assert part.end is ActEnd.DONE and ran.exists()


def test_what_somebody_held_is_said_to_be_held(packages: AptRoot, apt: Apt) -> None:
    packages.install(packages.make("chat", "1.0"))
    packages.offer(packages.make("chat", "1.1"))
    packages.hold("chat")
    (update,) = apt.updates(watch).updates
    assert update.held_back == "held by the administrator"


def test_while_something_else_installs_it_waits_and_can_be_called_off(
    packages: AptRoot, apt: Apt, monkeypatch: pytest.MonkeyPatch
) -> None:
    packages.install(packages.make("chat", "1.0"))
    packages.offer(packages.make("chat", "1.1"))
    asked, working = 0, []
    honest = apt.updates

    def updates(watch: Watch) -> UpdatesListed:
        working.append(other.poll() is None)
        return honest(watch)

    monkeypatch.setattr(apt, "updates", updates)

    def end_it_then(done: int = 0, of: int | None = None) -> None:
        nonlocal asked
        asked += 1
        if asked == 3:
            other.kill()
            other.wait()

    with packages.at_work() as other:
        (part,) = ended(apt.install(InstallUpdates(), end_it_then))
    assert asked >= 3 and part.end is ActEnd.DONE
    assert working == [False], "nothing is looked up while it changes"

    def stop(done: int = 0, of: int | None = None) -> None:
        if of is None and packages.version("chat") == "installed 1.1":
            raise Stopped

    with packages.at_work(), pytest.raises(Stopped):
        list(ended(apt.install(InstallUpdates(), stop)))
    assert packages.version("chat") == "installed 1.1"


def test_what_dpkg_noted_when_it_was_cut_off_counts(packages: AptRoot, apt: Apt) -> None:
    packages.install(packages.make("chat", "1.0"))
    status = packages.root / "var/lib/dpkg/status"
    noted = status.read_text().replace("install ok installed", "install ok half-configured")
    (packages.root / "var/lib/dpkg/updates/0003").write_text(noted)
    packages.offer(packages.make("other", "1.0"))
    parts = list(ended(apt.install(InstallUpdates(), watch)))
    assert any(part.target == "chat" and "whole again" in part.why for part in parts)


def test_what_dpkg_had_ended_and_not_written_down_stops_nothing(
    packages: AptRoot, apt: Apt
) -> None:
    """Cut off after the last package was whole and before its status file was written."""
    packages.install(packages.make("chat", "1.0"))
    status = packages.root / "var/lib/dpkg/status"
    (packages.root / "var/lib/dpkg/updates/0003").write_bytes(status.read_bytes())
    packages.offer(packages.make("chat", "1.1"))
    (part,) = ended(apt.install(InstallUpdates(), watch))
    assert (part.end, part.after) == (ActEnd.DONE, "1.1"), part.why


@pytest.mark.parametrize("lock", ["lock", "lock-frontend"])
def test_who_holds_either_lock_is_waited_for(
    packages: AptRoot, apt: Apt, lock: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    packages.install(packages.make("chat", "1.0"))
    monkeypatch.setattr(apt, "updates", lambda watch: pytest.fail("looked up while it changes"))
    waited = iter(range(3))

    def stop(done: int = 0, of: int | None = None) -> None:
        if next(waited, None) is None:
            raise Stopped

    with packages.at_work(lock), pytest.raises(Stopped):
        list(apt.install(InstallUpdates(), stop))


def test_nothing_is_removed_by_the_way_and_what_is_held_stays(packages: AptRoot, apt: Apt) -> None:
    packages.install(packages.make("chat", "1.0"), packages.make("old-plugin", "1.0"))
    packages.offer(packages.make("chat", "2.0", fields="Conflicts: old-plugin\n"))
    (update,) = apt.updates(watch).updates
    assert "old-plugin" in update.held_back
    (part,) = ended(apt.install(InstallUpdates(), watch))
    assert part.end is ActEnd.REFUSED and "old-plugin" in part.why
    assert packages.version("old-plugin") == "installed 1.0"
    assert packages.version("chat") == "installed 1.0"


def test_only_security_and_only_some(packages: AptRoot, apt: Apt) -> None:
    names = ("chat", "wall", "more")
    packages.install(*(packages.make(name, "1.0") for name in names))
    packages.offer(packages.make("chat", "1.1"), packages.make("more", "1.1"))
    packages.offer(packages.make("wall", "1.1"), origin="Debian-Security")
    parts = list(ended(apt.install(InstallUpdates(only_security=True), watch)))
    assert [part.target for part in parts] == ["wall"]
    parts = list(ended(apt.install(InstallUpdates(names=("more", "nobody")), watch)))
    assert {part.target: part.end for part in parts} == {
        "more": ActEnd.DONE, "nobody": ActEnd.NOTHING
    }  # fmt: skip
    assert packages.version("chat") == "installed 1.0"


def test_called_off_between_two_updates(packages: AptRoot, apt: Apt) -> None:
    names = ("a-one", "b-two", "c-three")
    packages.install(*(packages.make(name, "1.0") for name in names))
    packages.offer(*(packages.make(name, "1.1") for name in names))
    done = []

    def stop(number: int = 0, of: int | None = None) -> None:
        if number >= 1:
            raise Stopped

    with pytest.raises(Stopped):
        for part in ended(apt.install(InstallUpdates(), stop)):
            done.append(part.target)
    assert len(done) == 1
    states = sorted(packages.version(name) for name in names)
    assert states == ["installed 1.0", "installed 1.0", "installed 1.1"], "whole, each of them"


def test_called_off_while_one_is_installed_ends_that_one_first(
    packages: AptRoot, apt: Apt, tmp_path: Path
) -> None:
    mark = tmp_path / "began"
    packages.install(packages.make("slow", "1.0"))
    packages.offer(packages.make("slow", "1.1", script=f"touch {mark}; sleep 1"))

    def stop(number: int = 0, of: int | None = None) -> None:
        if mark.exists():
            raise Stopped

    told = []
    with pytest.raises(Stopped):
        for part in ended(apt.install(InstallUpdates(), stop)):
            told.append((part.target, part.before, part.after))
    assert told == [("slow", "1.0", "1.1")], "and it is told"
    assert packages.version("slow") == "installed 1.1"


# --- removing --------------------------------------------------------------------------------


def removal(name: str, *along: Along, not_reinstallable: bool = False) -> RemoveProgram:
    return RemoveProgram(
        program=name, version="1.0", along=along, not_reinstallable=not_reinstallable, backup_days=1
    )


def test_a_removal_is_tried_first_and_takes_exactly_what_was_agreed(
    packages: AptRoot, apt: Apt
) -> None:
    made = [packages.make("office", "1.0"), packages.make("fonts", "1.0", depends="office")]
    packages.install(*made)
    packages.offer(*made)
    apt.updates(watch)
    tried = apt.try_removal(TryRemoval(program="office", version="1.0"), watch).tried
    assert tried is not None and tried.refused == ""
    assert tried.along == (Along(name="fonts", version="1.0"),) and tried.can_come_back
    assert packages.version("office") == "installed 1.0", "to try is to do nothing"

    (part,) = apt.remove(removal("office"), watch)
    assert part.end is ActEnd.REFUSED and "fonts would be removed too" in part.why
    (part,) = apt.remove(removal("office", Along(name="fonts", version="0.9")), watch)
    assert part.end is ActEnd.REFUSED and "by now" in part.why
    assert packages.version("fonts") == "installed 1.0"

    parts = list(apt.remove(removal("office", *tried.along), watch))
    assert {part.target: part.end for part in parts} == {
        "office": ActEnd.DONE,
        "fonts": ActEnd.DONE,
    }
    assert not packages.version("office").startswith("installed")
    (part,) = apt.remove(removal("office", *tried.along), watch)
    assert part.end is ActEnd.DONE, "gone on with after it was cut off, it is done"


def test_what_the_system_needs_and_what_is_otherwise_is_refused(
    packages: AptRoot, apt: Apt
) -> None:
    packages.install(
        packages.make("base", "1.0", fields="Essential: yes\n"), packages.make("chat", "1.0"),
        packages.make("lib", "1.0"), packages.make("core", "1.0", depends="lib",
                                                   fields="Protected: yes\n"),
    )  # fmt: skip

    def why(name: str, version: str = "1.0") -> str:
        tried = apt.try_removal(TryRemoval(program=name, version=version), watch).tried
        assert tried is not None
        return tried.refused

    assert why("base") == "the system needs base"
    assert why("lib"), "what would be removed with it counts"
    assert why("chat", "0.9") == "it is of version 1.0 by now"
    assert why("nobody") == "it is not installed"
    (part,) = apt.remove(removal("base"), watch)
    assert part.end is ActEnd.REFUSED and packages.version("base") == "installed 1.0"


def test_a_version_that_is_offered_no_more_needs_a_yes_of_its_own(
    packages: AptRoot, apt: Apt
) -> None:
    packages.install(packages.make("chat", "1.0"))
    packages.offer(packages.make("chat", "2.0"))
    apt.updates(watch)
    tried = apt.try_removal(TryRemoval(program="chat", version="1.0"), watch).tried
    assert tried is not None and not tried.can_come_back
    (part,) = apt.remove(removal("chat"), watch)
    assert part.end is ActEnd.REFUSED and "cannot be had again" in part.why
    (part,) = apt.remove(removal("chat", not_reinstallable=True), watch)
    assert part.end is ActEnd.DONE


def test_a_removal_that_fails_is_not_believed(packages: AptRoot, apt: Apt) -> None:
    packages.install(packages.make("sticky", "1.0", removal="exit 1"))
    packages.offer(packages.make("sticky", "1.0"))
    apt.updates(watch)
    parts = list(apt.remove(removal("sticky"), watch))
    assert parts[0].end is ActEnd.FAILED and packages.version("sticky").startswith("installed")
