"""What runs compiled is decided in one place, and told."""

from __future__ import annotations

from keel.model.accelerated import Accelerated, how_it_runs


def slowly(number: int) -> str:
    return f"{number} slowly"


def test_the_plain_one_works_until_the_compiled_one_is_loaded() -> None:
    # Its module stands for a compiled one: the function there has the name, and gives the same.
    made = Accelerated(slowly, __name__)
    assert made(3) == "3 slowly" and not made.is_compiled
    made.load()
    assert made(3) == "3 slowly" and made.is_compiled


def test_it_can_be_asked() -> None:
    from keel.app.desk.warm_up import warm_up

    warm_up()
    assert {name for name, compiled in how_it_runs().items() if compiled} == {
        "find_pattern",
        "summarise",
        "slide",
        "tallied",
    }
