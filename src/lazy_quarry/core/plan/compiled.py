"""The search of one job and the taking of its place, as compiled loops over a timeline's own arrays.

The same places as :mod:`lazy_quarry.core.plan.search` finds, to the node; that module is the reference. Needs Numba (the
``fast`` extra), and takes a third of a second to import, so only large sites load it.

``times`` (nodes × width), ``free`` (4 × nodes × width) and ``used`` (nodes) are those of a timeline, ``bounds`` and ``floors``
those of :class:`~lazy_quarry.core.plan.bounds.Bounds`.
"""

import numpy as np
from numba import njit

FAR = 2**61


@njit(cache=True)
def _after(times, used, node, at):
    """The first breakpoint of a node that is later than an instant."""
    low, high = 0, used[node]
    while low < high:
        middle = (low + high) >> 1
        if times[node, middle] <= at:
            low = middle + 1
        else:
            high = middle
    return low


@njit(cache=True)
def _next_stretch(times, free, used, node, need, column, duration, not_before, until):
    """The first and last start of a node's next stretch with enough; past ``until`` only an instant before which there is none."""
    cores, memory, gpus, scratch = need[0, column], need[1, column], need[2, column], need[3, column]
    begin = np.int64(-1)
    for place in range(max(0, _after(times, used, node, not_before) - 1), used[node]):
        at = times[node, place]
        if (
            free[0, node, place] >= cores
            and free[1, node, place] >= memory
            and (gpus == 0 or free[2, node, place] >= gpus)
            and (scratch == 0 or free[3, node, place] >= scratch)
        ):
            if begin < 0:
                begin = max(at, not_before)
                if begin > until:
                    return begin, begin
        else:
            if begin >= 0 and at - duration >= begin:
                return begin, at - duration
            begin = np.int64(-1)
            if at > until:
                return at, at
    if begin >= 0:
        return begin, FAR - duration
    return np.int64(FAR), np.int64(FAR)


@njit(cache=True)
def _sink(heap, keys, place, count):
    """Restore the order of a heap of positions, the least key first, below a place."""
    moved = heap[place]
    key = keys[moved]
    while True:
        below = 2 * place + 1
        if below >= count:
            break
        if below + 1 < count and keys[heap[below + 1]] < keys[heap[below]]:
            below += 1
        if keys[heap[below]] >= key:
            break
        heap[place] = heap[below]
        place = below
    heap[place] = moved


@njit(cache=True)
def _push(heap, keys, count, added):
    place, key = count, keys[added]
    while place:
        above = (place - 1) >> 1
        if keys[heap[above]] <= key:
            break
        heap[place] = heap[above]
        place = above
    heap[place] = added


@njit(cache=True)
def find(
    times,
    free,
    used,
    numbers,
    need,
    counts,
    duration,
    not_before,
    bounds,
    floors,
    rows,
    donors,
    order,
    chosen,
):
    """The earliest common start, or -1 for none; ``chosen`` gets positions in ``numbers``, part after part.

    ``order`` (positions) says which nodes are taken first. ``need`` (parts × 4 × 1, or × nodes) and ``counts`` are the parts, the
    greater first; ``rows`` are their rows of ``bounds``, and ``donors`` (parts × some, then -1) rows that hold for them too.
    """
    for part in range(len(counts)):
        own = bounds[rows[part]]
        for donor in donors[part]:
            if donor < 0:
                break
            if floors[donor] <= not_before:
                other = bounds[donor]
                for node in range(len(own)):
                    own[node] = max(own[node], other[node])
    if len(counts) == 1 and counts[0] == 1:
        return _find_one(times, free, used, numbers, need[0], duration, not_before, bounds[rows[0]], order, chosen)
    return _find_several(times, free, used, numbers, need, counts, duration, not_before, bounds, rows, order, chosen)


@njit(cache=True)
def _find_one(times, free, used, numbers, need, duration, not_before, own, order, chosen):
    count, wide = len(numbers), need.shape[1] > 1
    first = 0
    for place in range(count):
        if own[numbers[place]] < own[numbers[first]]:
            first = place
    best, at = np.int64(FAR), -1
    for step in range(count):  # from the node on that is bound to be first, so that few others are looked at
        place = (first + step) % count
        node = numbers[place]
        if own[node] > best:
            continue
        start, _ = _next_stretch(
            times, free, used, node, need, place if wide else 0, duration, max(not_before, own[node]), best
        )
        own[node] = start
        if start > best or start >= FAR:
            continue
        if start < best or at < 0 or order[place] < order[at]:
            best, at = start, place
    if at < 0:
        return np.int64(-1)
    chosen[0] = at
    return best


@njit(cache=True)
def _find_several(times, free, used, numbers, need, counts, duration, not_before, bounds, rows, order, chosen):
    count, parts, wide = len(numbers), len(counts), need.shape[2] > 1
    early = np.empty((parts, count), np.int64)
    coming = np.empty((parts, count), np.int64)  # heaps of nodes by the earliest start that they may have
    hosting = np.empty((parts, count), np.int64)  # nodes that host the part at the instant that is tried
    closes = np.empty((parts, count), np.int64)
    in_heap, hosts = np.full(parts, count, np.int64), np.zeros(parts, np.int64)
    for part in range(parts):
        for place in range(count):
            early[part, place] = bounds[rows[part], numbers[place]]
            coming[part, place] = place
        for place in range(count // 2 - 1, -1, -1):
            _sink(coming[part], early[part], place, count)
    # The instant only moves on, to where the next of the nodes that are coming could host: no start between two of these could be
    # the answer. Whenever it moves, all parts are looked at again, for a stretch that hosted one of them may have closed.
    at, settled = not_before, False
    while not settled:
        wanted, settled = 0, True
        for part in range(parts):
            wanted += counts[part]
            kept = 0
            for place in range(hosts[part]):  # those whose stretch has closed go on to their next
                node = hosting[part, place]
                if closes[part, node] >= at:
                    hosting[part, kept] = node
                    kept += 1
                else:
                    early[part, node] = closes[part, node] + 1
                    _push(coming[part], early[part], in_heap[part], node)
                    in_heap[part] += 1
            hosts[part] = kept
            while in_heap[part] and (early[part, coming[part, 0]] <= at or hosts[part] < wanted):
                node = coming[part, 0]
                if early[part, node] >= FAR:
                    return np.int64(-1)
                if early[part, node] > at:
                    at, settled = early[part, node], False
                    break
                begin, last = _next_stretch(
                    times,
                    free,
                    used,
                    numbers[node],
                    need[part],
                    node if wide else 0,
                    duration,
                    max(at, early[part, node]),
                    FAR,
                )
                if begin <= at:
                    in_heap[part] -= 1
                    coming[part, 0] = coming[part, in_heap[part]]
                    _sink(coming[part], early[part], 0, in_heap[part])
                    closes[part, node] = last
                    hosting[part, hosts[part]] = node
                    hosts[part] += 1
                else:
                    early[part, node] = begin
                    _sink(coming[part], early[part], 0, in_heap[part])
            if not settled:
                break
            if hosts[part] < wanted:
                return np.int64(-1)
    # What was learnt stays for the next search of this kind: no node can host it earlier than was found here. Those that host it
    # now could do so from this instant on, though their stretch began before.
    for part in range(parts):
        own = bounds[rows[part]]
        for place in range(hosts[part]):
            early[part, hosting[part, place]] = min(early[part, hosting[part, place]], at)
        for place in range(count):
            own[numbers[place]] = early[part, place]
    _choose(counts, hosting, hosts, order, chosen)
    return at


@njit(cache=True)
def _choose(counts, hosting, hosts, order, chosen):
    """Larger parts choose first, each the nodes that come first in the order of those that host it and are left."""
    taken = np.zeros(len(order), np.bool_)
    heap = np.empty(len(order), np.int64)
    filled = 0
    for part in range(len(counts)):
        left = 0
        for place in range(hosts[part]):
            node = hosting[part, place]
            if not taken[node]:
                heap[left] = node
                left += 1
        for place in range(left // 2 - 1, -1, -1):
            _sink(heap, order, place, left)
        for _ in range(counts[part]):
            node = heap[0]
            left -= 1
            heap[0] = heap[left]
            _sink(heap, order, 0, left)
            taken[node] = True
            chosen[filled] = node
            filled += 1


@njit(cache=True)
def within(known, count, asked, rows, found):
    """Rows of those of the first ``count`` kinds that ask for no more of anything: of as many as there is room for in ``found``
    those that last longest, then ask for most. ``known`` and ``asked`` are as in :mod:`lazy_quarry.core.plan.bounds`.
    """
    best, sums = np.empty(len(found), dtype=np.int64), np.empty(len(found), dtype=np.int64)
    held = 0
    for kind in range(count):
        fits = True
        for amount in range(6):
            if known[kind, amount] > asked[amount]:
                fits = False
                break
        if not fits:
            continue
        lasts, total = known[kind, 5], known[kind, :4].sum()
        place = held
        while place and (best[place - 1] < lasts or (best[place - 1] == lasts and sums[place - 1] < total)):
            place -= 1
        if place == len(found):
            continue
        held = min(held + 1, len(found))
        for later in range(held - 1, place, -1):
            best[later], sums[later], found[later] = best[later - 1], sums[later - 1], found[later - 1]
        best[place], sums[place], found[place] = lasts, total, rows[kind]


@njit(cache=True)
def fits(idle, numbers, need, counts, anywhere):
    """True when a need fits on what is idle (4 × nodes): see ``Planner.fits``."""
    hosts, levels = 0, need.shape[2] > 1
    wanted = 0
    for part in range(len(counts)):
        wanted += counts[part]
        if not anywhere:
            hosts = 0
        for place in range(len(numbers)):
            node = numbers[place]
            at = place if levels else 0
            enough = True
            for kind in range(4):
                if idle[kind, node] < need[part, kind, at]:
                    enough = False
                    break
            if enough:
                hosts += 1
                if anywhere and hosts >= anywhere:
                    return True
                if not anywhere and hosts >= wanted:
                    break
        if not anywhere and hosts < wanted:
            return False
    return not anywhere


@njit(cache=True)
def count_at(times, free, used, nodes, amount, most, duration, start, counts):
    """As ``search.count_at``, for ``nodes`` in the order in which they are taken: ``counts`` gets the jobs on each.

    Returns how many nodes were looked at.
    """
    left, end = most, start + duration
    for place in range(len(nodes)):
        node = nodes[place]
        here = left
        for segment in range(_after(times, used, node, start) - 1, used[node]):
            if times[node, segment] >= end:
                break
            for kind in range(4):
                if amount[kind]:
                    here = min(here, free[kind, node, segment] // amount[kind])
            if here <= 0:
                here = 0
                break
        counts[place] = here
        left -= here
        if not left:
            return place + 1
    return len(nodes)


@njit(cache=True)
def _cut(times, free, used, node, at):
    place, count = _after(times, used, node, at), used[node]
    if times[node, place - 1] == at:
        return place - 1
    for later in range(count, place, -1):
        times[node, later] = times[node, later - 1]
    times[node, place] = at
    for kind in range(4):
        for later in range(count, place, -1):
            free[kind, node, later] = free[kind, node, later - 1]
        free[kind, node, place] = free[kind, node, place - 1]
    used[node] = count + 1
    return place


@njit(cache=True)
def close(times, free, used, nodes, begin, end):
    """Close nodes from an instant up to another, whatever is taken there; rows and what is returned are as in ``take``."""
    longest = 0
    for place in range(len(nodes)):
        node = nodes[place]
        first = _cut(times, free, used, node, begin)
        last = _cut(times, free, used, node, end) if end < FAR else used[node]
        free[:, node, first:last] = -1
        longest = max(longest, used[node])
    return longest


@njit(cache=True)
def take(times, free, used, nodes, amounts, begin, end):
    """Take each node's amount (nodes × 4) from an instant up to another; returns the length of the longest row that was changed.

    Every row must have room for two more breakpoints, and one more that isn't used.
    """
    longest = 0
    for place in range(len(nodes)):
        node = nodes[place]
        first = _cut(times, free, used, node, begin)
        last = _cut(times, free, used, node, end) if end < FAR else used[node]
        for kind in range(4):
            if amounts[place, kind]:
                for segment in range(first, last):
                    free[kind, node, segment] -= amounts[place, kind]
        longest = max(longest, used[node])
    return longest
