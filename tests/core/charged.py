"""The charge of an attempt, worked out from fractions: the model that the engine's charges are compared with."""

from fractions import Fraction
from math import floor, prod


def charged_for(site, tier, queue, allocations, length_ms):
    rates, counts = site.rates, 0
    for one in allocations:
        node = site.node[one.node]
        size = 1000 * dict(rates.sizes).get(node.name, node.cores)
        for trait in node.traits:
            size = floor(size * Fraction(dict(rates.traits).get(trait, 1000), 1000))
        shares = [Fraction(len(one.cores), node.cores)]
        if rates.by == "largest-share":
            shares += [Fraction(one.memory_mib, node.memory_mib)]
            shares += [Fraction(len(one.gpus), node.gpus)] if node.gpus else []
        counts += floor(size * max(shares))
    counts = floor(counts * Fraction(dict(rates.queues).get(queue, 1000), 1000))
    factors = [Fraction(counts, 1000), Fraction(site.tier[tier].charge_permille, 1000)]
    return floor(length_ms * prod(factors))
