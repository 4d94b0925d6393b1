"""Doubly linked lists over records that have ``prev``, ``next`` and, where order counts, ``number``."""

from __future__ import annotations

from typing import Any

from echotally.engine.kernel.access import Accessor, World, chain_at
from echotally.engine.kernel.compiled import hot, kernel


@hot
def append(w: World, items: Accessor[Any], lst: int, i: int) -> None:
    """Put item ``i`` at the end."""
    chain = chain_at(w, lst)
    tail = chain.tail
    items(w, i).prev = tail
    items(w, i).next = -1
    if tail >= 0:
        items(w, tail).next = i
    else:
        chain.head = i
    chain.tail = i
    chain.length += 1


@hot
def push_front(w: World, items: Accessor[Any], lst: int, i: int) -> None:
    """Put item ``i`` at the front."""
    chain = chain_at(w, lst)
    head = chain.head
    items(w, i).next = head
    items(w, i).prev = -1
    if head >= 0:
        items(w, head).prev = i
    else:
        chain.tail = i
    chain.head = i
    chain.length += 1


@hot
def _closes_up(w: World, items: Accessor[Any], lst: int, before: int, after: int) -> None:
    """Neighbours close a gap; where there is none on a side, the list's own end does."""
    chain = chain_at(w, lst)
    if before >= 0:
        items(w, before).next = after
    else:
        chain.head = after
    if after >= 0:
        items(w, after).prev = before
    else:
        chain.tail = before


@hot
def remove(w: World, items: Accessor[Any], lst: int, i: int) -> None:
    """Take item ``i`` out."""
    chain, before, after = chain_at(w, lst), items(w, i).prev, items(w, i).next
    _closes_up(w, items, lst, before, after)
    # The hint must stay a member of the list.
    if chain.hint == i:
        chain.hint = after if after >= 0 else before
    chain.length -= 1


@hot
def remove_run(w: World, items: Accessor[Any], lst: int, first: int, last: int, n: int) -> None:
    """Take ``n`` items out that stand one behind the other, from ``first`` to ``last``; they stay linked through ``next``."""
    chain = chain_at(w, lst)
    _closes_up(w, items, lst, items(w, first).prev, items(w, last).next)
    chain.hint = -1
    chain.length -= n


@kernel
def insert(w: World, items: Accessor[Any], lst: int, i: int) -> None:
    """Put item ``i`` where its number belongs; the search begins at the last place used."""
    chain = chain_at(w, lst)
    number = items(w, i).number
    # The usual case: numbers rise, so that the newest belongs at the end.
    if chain.tail < 0 or items(w, chain.tail).number <= number:
        append(w, items, lst, i)
        return
    if items(w, chain.head).number > number:
        push_front(w, items, lst, i)
        chain.hint = i
        return
    # From the last place used: what comes back in turn belongs near what came back before.
    before = chain.hint if chain.hint >= 0 else chain.head
    while items(w, before).number > number:
        before = items(w, before).prev
    # Equal numbers keep the order in which they came.
    while items(w, items(w, before).next).number <= number:
        before = items(w, before).next
    insert_behind(w, items, lst, before, i)


@hot
def insert_behind(w: World, items: Accessor[Any], lst: int, before: int, i: int) -> None:
    """Put item ``i`` behind item ``before``, which is not the last one."""
    chain, after = chain_at(w, lst), items(w, before).next
    items(w, i).prev = before
    items(w, i).next = after
    items(w, before).next = i
    items(w, after).prev = i
    chain.hint = i
    chain.length += 1
