"""The catalogue is data, checked when it is read."""

import pytest

from helpers import INVENTED
from phylax.core.catalogue import catalogue, category, read_category
from phylax.core.retention import Caution, Scope, in_force


def test_every_category_says_what_it_costs_and_has_a_whole_rule() -> None:
    for key, kind in catalogue().items():
        assert kind.key == key
        assert kind.cost.endswith("."), key
        in_force([(Scope.CATALOGUE, kind.rule)])


def test_downloads_need_a_yes_and_are_off_by_default() -> None:
    assert category("downloads").caution is Caution.ASK
    assert category("downloads").rule.off is True


def test_a_category_is_added_by_its_text_alone() -> None:
    assert read_category(INVENTED).where[0].below == ("teapot/*/leaves",)


@pytest.mark.parametrize(
    ("change", "complaint"),
    [
        (('"teapot/*/leaves"', '"../Documents"'), "must be a path below the location"),
        (('base = "user-cache"', 'base = "root"'), "base"),
        (("off = false, ", ""), "must set both"),
        (('caution = "safe"', 'caution = "dare"'), "caution"),
        (('name = "Tea leaves"', 'nam = "Tea leaves"'), "nam"),
    ],
)
def test_a_wrong_category_is_refused_by_name(change: tuple[str, str], complaint: str) -> None:
    with pytest.raises(ValueError, match=complaint):
        read_category(INVENTED.replace(*change))


def test_an_unknown_category_names_the_known_ones() -> None:
    with pytest.raises(KeyError, match="there are user-temp"):
        category("tea-leaves")
