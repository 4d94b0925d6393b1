"""Addresses: what is typed and what it names, whatever the names are made of."""

from __future__ import annotations

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from echotally.model.addresses import address_parts, dotted, override, parts_in
from echotally.naming import with_environment

NAMES = st.text(st.sampled_from('ab."=\\ @\n\u202e水[]'), min_size=1, max_size=6)


@given(st.lists(NAMES, min_size=1, max_size=4).map(tuple), st.text(max_size=5))
@example(("functions", '"', "\\"), "=")
def test_what_is_typed_names_what_it_was_made_of(parts: tuple[str, ...], value: str) -> None:
    address = dotted(parts)
    assert address_parts(address) == parts_in({}, address) == parts
    assert override(f"{address}={value}") == (address, value.strip())


@given(st.dictionaries(st.text(st.sampled_from("ab."), min_size=1, max_size=4), st.just({"memory": 1}), min_size=1))
def test_a_name_with_dots_needs_no_quotes_where_nothing_else_is_called_so(functions: dict[str, object]) -> None:
    data = {"functions": functions}
    for name in functions:
        # No part of it is empty, and no longer name begins with it and its key.
        if all(name.split(".")) and not any(other.startswith(f"{name}.") for other in functions):
            assert parts_in(data, f"functions.{name}.memory") == ("functions", name, "memory")
        assert parts_in(data, dotted(("functions", name, "memory"))) == ("functions", name, "memory")


@pytest.mark.parametrize(
    ("address", "parts"),
    [
        ("functions.a.memory", ("functions", "a", "memory")),
        ("functions.a.b.memory", ("functions", "a.b", "memory")),
        # Something of it is asked for, so that it is the key of the one and not the whole of the other.
        ("functions.a.tags", ("functions", "a", "tags")),
        ('functions."a.tags"', ("functions", "a.tags")),
        ("functions.a.b", ("functions", "a", "b")),
        ('functions."a.b"', ("functions", "a.b")),
        ('functions."a".b.memory', ("functions", "a", "b", "memory")),
        ("functions.new.one.memory", ("functions", "new", "one", "memory")),
        ("triggers.streams.s>a.b.batch", ("triggers", "streams.s>a.b", "batch")),
        ("triggers.0.batch", ("triggers", "0", "batch")),
    ],
)  # fmt: skip
def test_of_two_names_the_longer_is_meant_that_leaves_something_to_ask_for(
    address: str, parts: tuple[str, ...]
) -> None:
    data = {"functions": {"a": {}, "a.b": {}, "a.tags": {}}, "triggers": [{"from": "streams.s", "to": "a.b"}]}
    assert parts_in(data, address) == parts


@pytest.mark.parametrize("text", ["", "=", " = 1", "functions.a", '"a=b"', '"' * 2_000 + "a", '"a' * 2_000])
def test_what_is_no_override_is_soon_known(text: str) -> None:
    assert override(text) is None


def test_the_longest_of_lines_is_soon_read() -> None:
    assert len(parts_in({"a": {"a": {}}}, ".".join(["a"] * 50_000))) == 50_000
    # Quotes that are never closed hold nothing.
    unclosed = '"' + '\\"' * 60_000
    assert override(f"{unclosed}=1") == (unclosed, "1")


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("a@b", ("a@b", "")),
        ("a@b@live", ("a@b", "live")),
        ("functions.a@b@live", ("functions.a@b", "live")),
        ("c@live", ("c", "live")),
        ("d@live", ("d", "live")),
    ],
)
def test_a_name_may_hold_the_sign_before_an_environment(text: str, found: tuple[str, str]) -> None:
    assert with_environment(text, {"a@b", "c"}, "functions") == found
