"""Places that may not exist: inputs are taken as independent of each other, and some are not."""

from __future__ import annotations

from collections.abc import Sequence

from kivvet.core.space.boxes import Space
from kivvet.core.tables.table import Table


def may_be_empty(space: Space, is_whole: Sequence[bool]) -> bool:
    """Whether a box is not proven to hold a place: the dimensions it constrains may depend on each other.

    Parameters
    ----------
    space : Space
    is_whole : sequence of bool
        The dimensions that the box leaves free.
    """
    constrained = [one for one, whole in zip(space.dimensions, is_whole, strict=True) if not whole]
    if any(one.test is not None and one.test.whole is not None for one in constrained):
        return True
    reads = [
        frozenset(one.test.reads) if one.test is not None else frozenset((one.about.name,))
        for one in constrained
    ]
    if sum(map(len, reads)) > len(frozenset().union(*reads)):
        return True  # two of them read one column
    limited = [
        frozenset((dimension.about.name,))
        for dimension in space.dimensions
        if dimension.test is None and dimension.axis.is_limited
    ]
    return is_tied(space.table, reads, limited)


def is_tied(
    table: Table, constrained: Sequence[frozenset[str]], limited: Sequence[frozenset[str]] = ()
) -> bool:
    """Whether statements of `given` may leave nothing of a place.

    Parameters
    ----------
    constrained : sequence of frozenset of str
        For each dimension that the place constrains the columns it reads.
    limited : sequence of frozenset of str
        The columns whose domain is less than every value.

    Returns
    -------
    bool
        True where columns that statements tie together, directly or through others, are constrained more than
        once, a domain counting too; or where a statement speaks of one column only.
    """
    groups: list[frozenset[str]] = []
    for given in table.given:
        joined = frozenset(given.reads)
        for group in [one for one in groups if one & joined]:
            groups.remove(group)
            joined |= group
        groups.append(joined)
    own = {frozenset(given.reads) for given in table.given if len(given.reads) == 1}
    for group in groups:
        touching = [reads for reads in constrained if reads & group]
        is_stated = any(reads & one for reads in touching for one in own)
        n_tied = len({*touching, *(one for one in limited if one & group)})
        is_compared = any(len(reads & group) > 1 for reads in touching)
        if touching and (n_tied > 1 or is_stated or is_compared):
            return True
    return False
