"""The nearest request that can run, where the one that was made can't."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.job.nearest_request import nearest_request
from lazy_quarry.core.job.queue_fit import queue_fit
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.site import Limits
from lazy_quarry.core.values import replace
from tests.conftest import small_site

SITE = replace(small_site((8, 8, 16)), user_limits=(("bo", Limits(cores=20)),))
PLAIN = Request("j", "silt", ("all",), "steady", 600, Memory(512))


def fits(request, user="ada"):
    return any(queue_fit(request, SITE.queue[name], SITE, user).needs for name in request.queues)


@pytest.mark.parametrize(
    ("asked", "changed"),
    [
        ({"walltime_s": 90_000}, ('walltime = "1d"',)),
        ({"memory": Memory(100_000, "node")}, ('memory = "32 GiB/node"',)),
        ({"gpus": 9}, ("gpus = 2",)),
        ({"threads": 40}, ("threads = 16",)),
        ({"ranks": 100}, ("ranks = 25",)),  # 9, 8 and 8: they are dealt evenly
        ({"nodes": 9, "ranks": 18}, ("nodes = 3",)),
        ({"traits": "gold", "walltime_s": 90_000}, ('walltime = "1d"', "traits = any")),
        ({"on_nodes": ("n7",)}, ("on-nodes = any",)),
        ({}, ()),
    ],
)
def test_a_request_for_too_much_is_offered_the_most_that_fits(asked, changed):
    request, told = nearest_request(replace(PLAIN, **asked), SITE, "ada")
    assert set(told) == set(changed) and fits(request)


def test_limits_of_a_user_are_kept_too():
    request, told = nearest_request(replace(PLAIN, ranks=32), SITE, "bo")
    assert told == ("ranks = 20",) and fits(request, "bo")
    assert nearest_request(replace(PLAIN, queues=("last",)), SITE, "bo") is None  # a queue that isn't theirs


@given(
    st.integers(1, 60), st.integers(1, 30), st.none() | st.integers(1, 5), st.integers(1, 90_000), st.integers(0, 4),
    st.sampled_from(["core", "rank", "node", "job"]), st.booleans(), st.sampled_from(["", "fast", "not fast", "gold"]),
)  # fmt: skip
def test_the_nearest_request_fits_and_one_that_fits_stays(ranks, threads, nodes, mib, gpus, per, whole, traits):
    request = replace(
        PLAIN, ranks=max(ranks, nodes or 1), threads=threads, nodes=nodes, memory=Memory(mib, per), gpus=gpus,
        whole_nodes=whole, traits=traits,
    )  # fmt: skip
    found = nearest_request(request, SITE, "ada")
    if fits(request):
        assert found == (request, ())
    else:
        assert found is not None and fits(found[0]) and found[1]
