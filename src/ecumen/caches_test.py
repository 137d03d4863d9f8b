"""What is kept stays within its bounds, and is what was worked out."""

from __future__ import annotations

import random

import pytest

from ecumen.caches import Bounded, ByIdentity, WorkedOut


@pytest.mark.parametrize("most", [1, 3, 50])
def test_a_kept_answer_is_the_one_that_was_put_and_no_more_are_held_than_may_be(most: int) -> None:
    rng = random.Random(most)
    plain: dict[int, int] = {}
    kept: Bounded[int, int] = Bounded(most)
    asked: list[int] = []
    made: WorkedOut[int, int] = WorkedOut(most, lambda key: asked.append(key) or key * key)  # type: ignore[func-returns-value]
    for _ in range(2000):
        key = rng.randrange(2 * most + 2)
        if rng.random() < 0.5:
            kept[key] = plain[key] = rng.random() < 2 and key + len(plain)
        assert kept.get(key) in (None, plain.get(key))
        assert made[key] == key * key
        assert len(kept) <= most
        assert len(made) <= most
    assert len(asked) < 2000 or most == 1


def test_what_is_put_again_takes_no_place_of_others() -> None:
    kept: Bounded[str, int] = Bounded(2)
    kept["a"] = kept["b"] = 1
    kept["b"] = 2
    assert kept == {"a": 1, "b": 2}
    kept["c"] = 3
    assert kept == {"c": 3}


def test_equal_objects_have_places_of_their_own_and_none_is_mistaken_for_one_that_is_gone() -> None:
    found: ByIdentity[list[int], str] = ByIdentity(100)
    one, two = [1], [1]
    found.put(one, "one")
    assert found.get(two) is None
    assert found.put(two, "two") == "two"
    assert (found.get(one), found.get(two)) == ("one", "two")
    for number in range(1000):
        # A list of its own each time; its place in memory is that of no other that is held.
        fresh = [number]
        assert found.get(fresh) is None
        found.put(fresh, str(number))
    assert len(found) <= 100
