"""Places that may not exist: searches take inputs as independent of each other, and some are not.

Linear statements and comparisons are decided exactly (see `existing_places`); the others leave what they tie in doubt.
"""

from __future__ import annotations

from collections.abc import Sequence

from kivvet.core.linear.tied_columns import form_of, stated
from kivvet.core.space.boxes import Dimension, Space
from kivvet.core.tables.table import Table


def may_be_empty(space: Space, is_whole: Sequence[bool], *, only_loose: bool = False) -> bool:
    """Whether a box is not proven to hold a place: the dimensions it constrains may depend on each other.

    Parameters
    ----------
    space : Space
    is_whole : sequence of bool
        The dimensions that the box leaves free.
    only_loose : bool
        Whether only what is not linear counts, the rest having been decided exactly.
    """
    table = space.table
    constrained = [one for one, whole in zip(space.dimensions, is_whole, strict=True) if not whole]
    if any(one.test is not None and one.test.whole is not None for one in constrained):
        return True
    loose = {_reads(one) for one in constrained if form_of(table, one) is None and not one.is_plain}
    reads = [_reads(one) for one in constrained]
    for number, read in enumerate(reads):
        for other in reads[:number]:
            if read & other and (not only_loose or read in loose or other in loose):
                return True  # two of them read one column
    limited = [
        frozenset((dimension.about.name,))
        for dimension in space.dimensions
        if dimension.test is None and dimension.axis.is_limited
    ]
    return _is_tied(table, reads, limited, loose if only_loose else None)


def _reads(dimension: Dimension) -> frozenset[str]:
    return frozenset(dimension.test.reads if dimension.test is not None else (dimension.about.name,))


def _is_tied(
    table: Table,
    constrained: Sequence[frozenset[str]],
    limited: Sequence[frozenset[str]],
    loose: set[frozenset[str]] | None,
) -> bool:
    """Whether statements of `given` may leave nothing of a place.

    Parameters
    ----------
    constrained : sequence of frozenset of str
        For each dimension that the place constrains the columns it reads.
    limited : sequence of frozenset of str
        The columns whose domain is less than every value.
    loose : set of frozenset of str, or None
        What constrained dimensions read that are not linear; None: linear statements count too.

    Returns
    -------
    bool
        True where columns that statements tie together, directly or through others, are constrained more than
        once, a domain counting too; or where a statement speaks of one column only.
    """
    not_linear = {given.text for _, given in stated(table)[1]}
    groups: list[tuple[frozenset[str], bool]] = []
    for given in table.given:
        joined, is_loose = frozenset(given.reads), loose is None or given.text in not_linear
        for known in [group for group in groups if group[0] & joined]:
            groups.remove(known)
            joined, is_loose = joined | known[0], is_loose or known[1]
        groups.append((joined, is_loose))
    own = {
        frozenset(given.reads)
        for given in table.given
        if len(given.reads) == 1 and (loose is None or given.text in not_linear)
    }
    for group, is_loose in groups:
        touching = [reads for reads in constrained if reads & group]
        if not is_loose and not any(reads in (loose or ()) for reads in touching):
            continue
        is_stated = any(reads & one for reads in touching for one in own)
        n_tied = len({*touching, *(one for one in limited if one & group)})
        is_compared = any(len(reads & group) > 1 for reads in touching)
        if touching and (n_tied > 1 or is_stated or is_compared):
            return True
    return False
