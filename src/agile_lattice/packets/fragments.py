"""What two lists have in common, piece by piece, and which pieces could part them: *cancel and join*.

Boxes that both lists have, with the same action, are paired. The rest is joined to boxes of the other list with the
same action, and what a box and its partners have in common are fragments, which carry both positions. A box whose
fragments do not cover it becomes a fragment without a partner.

A packet that is treated differently is decided in the two lists by two boxes that stand in two fragments which hold it,
of different actions and in opposite orders (a fragment without a partner stands last on the other side): each of them
is in a fragment there, and its partner comes after the box that decides in the other list. In the longest run of
fragments that both lists have in one order there are no such pairs, so only those that moved are looked at.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from agile_lattice.packets.columns import Boxes, Truth, Whole
from agile_lattice.packets.cover import Pairs, cells, containing, covered
from agile_lattice.packets.order import longest_run
from agile_lattice.packets.overlaps import Work, overlaps

NOWHERE = int(np.iinfo(np.int32).max)  # the position of a partner that is not there: after all others


class Side:
    """A list.

    Attributes:
        boxes: Its boxes, in order.
        action: For each a number: two have the same action exactly if they are equal.
    """

    def __init__(self, boxes: Boxes, action: Whole) -> None:
        self.boxes, self.action = boxes, action


class Fragments:
    """What boxes of two lists have in common.

    Attributes:
        left, right: Positions of the boxes; `NOWHERE` if there is no such box.
        boxes: What both have in common.
        action: What they do.
    """

    def __init__(self, left: Whole, right: Whole, boxes: Boxes, action: Whole) -> None:
        self.left, self.right, self.boxes, self.action = left, right, boxes, action

    def __len__(self) -> int:
        return len(self.left)

    def take(self, which: Whole) -> Fragments:
        """Return some of them."""
        return Fragments(self.left[which], self.right[which], self.boxes.take(which), self.action[which])


def crossing(left: Side, right: Side, work: Work) -> Pairs:
    """Return all pairs of boxes that could decide a packet differently.

    Args:
        left: The one list, in the same grid as the other.
        right: The other.
        work: What may be done.

    Returns:
        Positions in the left and in the right list, ascending.

    Raises:
        Undecided: If more than `work` allows would have to be looked at.
    """
    twins = _twins(left, right)
    here = _joined(left, right, twins[0], work)
    there = _joined(right, left, twins[1], work)
    found = _put_together([
        Fragments(twins[0], twins[1], left.boxes.take(twins[0]), left.action[twins[0]]),
        here,
        Fragments(there.right, there.left, there.boxes, there.action),
    ])  # fmt: skip
    ours, theirs = _opposite(found, len(right.boxes), work)
    # A box decides nothing that another holds which stands earlier: most pairs are out of the question at once.
    alive = theirs <= _first_around(left.boxes, ours, right.boxes, work)
    alive &= ours <= _first_around(right.boxes, theirs, left.boxes, work)
    return ours[alive], theirs[alive]


def _first_around(boxes: Boxes, which: Whole, others: Boxes, work: Work) -> Whole:
    """Return, for some boxes, the position of the first of the others that contains it; `NOWHERE` if none does."""
    some, place = np.unique(which, return_inverse=True)
    targets = boxes.take(some)
    first = np.full(len(some), NOWHERE)
    contained, by = containing(targets, others, 0, overlaps(cells(targets, targets.low), others, work))
    first[contained] = by
    return first[place]


def _twins(left: Side, right: Side) -> Pairs:
    """Pair equal boxes of the same action, the first with the first of the other list and so on."""
    both = left.boxes.with_more(right.boxes)
    rows = np.vstack([both.low, both.high, np.concatenate([left.action, right.action])])
    order = np.lexsort(rows)
    changes = (np.diff(rows[:, order], axis=1) != 0).any(axis=0)
    alike = np.empty(len(order), np.int64)
    alike[order] = np.concatenate([[0], np.cumsum(changes)])
    keys = [some * (len(alike) + 1) + _turn(some) for some in np.split(alike, [len(left.boxes)])]
    _, mine, its = np.intersect1d(keys[0], keys[1], assume_unique=True, return_indices=True)
    return mine, its


def _turn(kinds: Whole) -> Whole:
    """Return the how-manieth of its kind each is."""
    order = np.argsort(kinds, kind="stable")
    first = np.flatnonzero(np.diff(kinds[order], prepend=-1))
    turn = np.empty(len(kinds), np.int64)
    turn[order] = np.arange(len(kinds)) - np.repeat(first, np.diff(np.append(first, len(kinds))))
    return turn


def _joined(side: Side, other: Side, paired: Whole, work: Work) -> Fragments:
    """Return fragments of the boxes that have no twin; `left` is their own list, whichever it is."""
    rest = np.flatnonzero(_others(len(side.boxes), paired))
    targets = side.boxes.take(rest)
    done, (target, taker) = covered(
        targets.beside(side.action[rest], side.action[rest] + 1),
        other.boxes.beside(other.action, other.action + 1), 1, work,
    )  # fmt: skip
    lost = rest[~done]
    boxes = targets.take(target).common(other.boxes.take(taker))
    with_partner = Fragments(rest[target], taker, boxes, side.action[rest[target]])
    alone = Fragments(lost, np.full(len(lost), NOWHERE), side.boxes.take(lost), side.action[lost])
    return _put_together([with_partner, alone])


def _put_together(some: Sequence[Fragments]) -> Fragments:
    boxes = some[0].boxes
    for each in some[1:]:
        boxes = boxes.with_more(each.boxes)
    numbers = [np.concatenate([getattr(each, name) for each in some]) for name in ("left", "right", "action")]
    return Fragments(numbers[0], numbers[1], boxes, numbers[2])


def _opposite(found: Fragments, count: int, work: Work) -> Pairs:
    """Return the boxes of fragments that overlap, do different things and stand in opposite orders."""
    found = found.take(np.lexsort((found.right, found.left)))
    paired = np.flatnonzero((found.left != NOWHERE) & (found.right != NOWHERE))
    kept = paired[longest_run(found.right[paired].tolist())]
    moved = np.flatnonzero(_others(len(found), kept))
    low, high = _passed(found.take(kept), found.take(moved))
    crossed = np.flatnonzero(low < high)
    place = np.arange(len(kept))
    one, other = overlaps(
        found.boxes.take(moved[crossed]).beside(low[crossed], high[crossed]),
        found.boxes.take(kept).beside(place, place + 1), work,
    )  # fmt: skip
    some = found.boxes.take(moved)
    among = overlaps(some, some, work)
    one, other = moved[crossed[one]], kept[other]
    ahead = np.concatenate([one, other, moved[among[0]]])  # each pair is here both ways round
    behind = np.concatenate([other, one, moved[among[1]]])
    parts = (found.left[ahead] < found.left[behind]) & (found.right[ahead] > found.right[behind])
    parts &= found.action[ahead] != found.action[behind]
    both = np.sort(found.left[ahead[parts]].astype(np.int64) * count + found.right[behind[parts]])
    both = both[np.flatnonzero(np.diff(both, prepend=-1))]
    return both // count, both % count


def _passed(run: Fragments, moved: Fragments) -> Pairs:
    """Return which part of a run each moved fragment has passed: from, and before; none if that is not less.

    What stands after it on the left and before it on the right follows on one another in the run, and so does what
    stands the other way round; both there cannot be.
    """
    after = np.searchsorted(run.left, moved.left, "right"), np.searchsorted(run.right, moved.right, "left")
    before = np.searchsorted(run.right, moved.right, "right"), np.searchsorted(run.left, moved.left, "left")
    is_after = after[0] < after[1]
    return np.where(is_after, after[0], before[0]), np.where(is_after, after[1], before[1])


def _others(count: int, these: Whole) -> Truth:
    """Return which positions are not among some."""
    found = np.ones(count, bool)
    found[these] = False
    return found
