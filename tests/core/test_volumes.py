"""Volumes as people name them, and what a choice of them covers."""

import pytest
from pydantic import ValidationError

from phylax.core.ground.volumes import VolumeChoice, plain_mount
from phylax.core.protocol import CleanOrder, SurveyOrder


@pytest.mark.parametrize(
    ("typed", "mount"),
    [
        ("C:", "C:"), ("c", "C:"), ("c:\\", "C:"), (" d:/ ", "D:"), ("/", "/"), ("//", "/"),
        ("/home/", "/home"), ("/media/My disk", "/media/My disk"), ("/srv/a ", "/srv/a "),
    ],
)  # fmt: skip
def test_a_volume_is_named_as_its_machine_names_it(typed: str, mount: str) -> None:
    assert plain_mount(typed) == mount


@pytest.mark.parametrize("typed", ["", "home", "CD:", "C:\\Users", "all", "-", "../srv"])
def test_what_is_no_volume_is_refused(typed: str) -> None:
    with pytest.raises(ValidationError):
        VolumeChoice(but=(typed,))


def test_a_choice_covers_what_it_says() -> None:
    every, only, but = VolumeChoice(), VolumeChoice(only=("c",)), VolumeChoice(but=("D:", "d:\\"))
    mounts = ["C:", "D:", "/tmp"]
    assert every.of(mounts) == mounts and every.is_all
    assert only.of(mounts) == ["C:"] and not only.is_all
    assert but.of(mounts) == ["C:", "/tmp"] and but.but == ("D:",)
    assert [c.in_words() for c in (every, only, but)] == ["", "C: only", "all but D:"]
    assert VolumeChoice(only=("C:", "D:", "/srv")).in_words() == "C:, D: and /srv only"
    with pytest.raises(ValidationError, match="not both"):
        VolumeChoice(only=("C:",), but=("D:",))


@pytest.mark.parametrize(
    ("choice", "why"),
    [
        (VolumeChoice(), ""),
        (VolumeChoice(only=("D:",)), ""),
        # a slip of the keys must not mean "nothing is left out"
        (VolumeChoice(but=("E:",)), "there is no volume E:; there are C: and D:"),
        (VolumeChoice(only=("C:", "F:")), "there is no volume F:; there are C: and D:"),
        (VolumeChoice(but=("C:", "D:")), "no volume is left of C: and D:"),
    ],
)
def test_a_choice_is_held_against_what_there_is(choice: VolumeChoice, why: str) -> None:
    assert choice.why_not(["C:", "D:"]) == why
    assert choice.why_not([]) == "", "nothing is known of the machine yet"


def test_a_shops_many_volumes_are_not_all_named() -> None:
    mounts = [f"/srv/{n}" for n in range(2000)]
    why = VolumeChoice(only=("E:",)).why_not(mounts)
    assert why.startswith("there is no volume E:; there are /srv/0, /srv/1, ")
    assert why.endswith("/srv/11 and 1988 more")


def test_a_cleaning_of_chosen_volumes_is_an_order_that_earlier_agents_do_not_know() -> None:
    whole = CleanOrder(run_id=1, lease="l", rules=(), clean=(), survey_first=True)
    chosen = CleanOrder(run_id=1, lease="l", rules=(), clean=(), survey_first=True,
                        volumes=VolumeChoice(only=("C:",)))  # fmt: skip
    assert (whole.kind, chosen.kind) == ("clean", "clean chosen volumes")
    said = chosen.model_dump(mode="json")
    assert CleanOrder.model_validate(said) == chosen
    with pytest.raises(ValidationError, match="names them"):
        CleanOrder.model_validate(said | {"kind": "clean"})
    # what an agent kept of a cleaning before there was a choice is one of all volumes
    earlier = whole.model_dump(mode="json", exclude={"volumes"})
    assert CleanOrder.model_validate(earlier) == whole
    # a survey touches nothing, wherever it looks
    assert SurveyOrder(run_id=1, lease="l", rules=(), volumes=chosen.volumes).kind == "survey"
