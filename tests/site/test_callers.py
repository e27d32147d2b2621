"""Several people on one engine: what each sees, may do, and is told."""

import pytest

from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.ownership import refuse_others
from lazy_quarry.core.site import Account, Limits, Tier
from lazy_quarry.core.values import replace
from lazy_quarry.errors import Refused
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.site_file.roles import caller_of, refusal
from lazy_quarry.views.board_mirror import BoardMirror
from lazy_quarry.views.rights import LEADS, OPERATORS
from tests.conftest import SiteUnderTest, script, small_site

HEAD = 'walltime = "1h"\nmemory = "64 MiB/core"\n'


@pytest.fixture
def two():
    """The clients of ada and bo on one engine."""
    accounts = (Account("silt"), Account("eels", None, ("ada",)), Account("bay", None, ("bo",), leads=("bo",)))
    site = replace(small_site(), accounts=accounts, operators=("olga",))
    used = SiteUnderTest(site, lambda: 1_000_000)
    return used, used.of("bo")


def submitted(client, name, header=HEAD, *arguments):
    text = script(f'name = "{name}"\n{header}', "echo $1")
    receipt = client.submit(Submission(text, "run.sh", "/tmp", arguments=arguments))
    assert receipt.job, receipt.diagnostics
    return receipt.job


def test_two_people_follow_one_engine_and_each_sees_their_own_board(two):
    boards = [BoardMirror(), BoardMirror()]
    jobs = [submitted(client, "own", HEAD, client.caller.user) for client in two for _ in range(2)]
    for turn in range(3):
        seen = [mirror.take(client.look(mirror.mark, jobs)) for client, mirror in zip(two, boards, strict=True)]
        for client, board in zip(two, seen, strict=True):
            user = client.caller.user
            assert board.person.user == user and {view.job for view in board.jobs} == set(jobs[: 4 + turn])
            assert all(bool(view.arguments) == (view.user == user) for view in board.jobs if view.job in jobs[:4])
        ours, theirs = seen
        assert ours.nodes == theirs.nodes and ours.strata.total == theirs.strata.total
        assert (ours.strata.mine, ours.strata.others + ours.strata.accounts) == (2 + turn, 2)
        assert (theirs.strata.mine, theirs.strata.others + theirs.strata.accounts) == (2, 2 + turn)
        jobs.append(submitted(two[0], "own"))
    assert {one.account: one for one in [ours.person, theirs.person]}.keys() == {"silt"}
    assert ours.person.accounts == ("silt", "eels") and theirs.person.accounts == ("silt", "bay")


def test_mine_names_turns_and_limits_are_of_whoever_asks(two):
    ada, bo = two
    site = replace(ada.session.site, tiers=(Tier("steady", users=("ada",)), Tier("double")), default_tier="double")
    site = replace(site, user_limits=(("ada", Limits(waiting_jobs=9)), ("bo", Limits(waiting_jobs=2))))
    ada = SiteUnderTest(site, lambda: 1_000_000)
    bo = ada.of("bo")
    whole = HEAD + "nodes = 3\nwhole-nodes = true\n"
    first = submitted(ada, "a", whole)
    waits = {client: [submitted(client, client.caller.user, whole) for _ in range(2)] for client in (ada, bo)}
    for client, own in waits.items():
        assert client.turns() == own
        mine = {view.job for view in client.jobs(everyone=False)}
        assert mine == {*own, *([first] if client is ada else [])} and len(client.jobs()) == 5
        assert {one.job for one in client.search("", ended=False, everyone=False).jobs} == mine
        assert ("steady" in client.names().tiers) is (client is ada)
    limits = [client.board().person.limits for client in (ada, bo)]
    assert [[(one.in_use, one.most) for one in found if one.measure == "waiting jobs"] for found in limits] == [
        [(2, 9)],
        [(2, 2)],
    ]
    assert bo.compare(*waits[bo]) and "last" in ada.names().queues and "last" not in bo.names().queues


def test_nobody_changes_what_somebody_else_submitted(two):
    ada, bo = two
    job = submitted(ada, "mine", HEAD + "nodes = 3\nwhole-nodes = true\n")
    waits = submitted(ada, "waits", HEAD + "nodes = 3\nwhole-nodes = true\n")
    told = [*bo.hold([waits]), *bo.cancel([job]), *bo.change([waits], ["walltime=2h"]), *bo.again([job])]
    told += [bo.remove_made(job, ["x"]), bo.order([waits])]
    assert not any(one.done for one in told)
    assert all("belongs to ada" in one.message for one in told), told
    assert "belongs to ada" in bo.would_change([waits], ["walltime=2h"]).refused
    assert bo.check(Submission(script(HEAD + 'account = "eels"'))).diagnostics[0].severity == "error"
    assert not ada.check(Submission(script(HEAD + 'account = "eels"'))).diagnostics
    assert ada.cancel([waits])[0].done
    with pytest.raises(Refused, match="7 belongs to ada; you may hold only your own jobs"):
        refuse_others("ada", "bo", "7", "hold only your own jobs")
    refuse_others("ada", "ada", "7", "")


def test_roles_are_those_of_the_site_file(two):
    site = two[0].session.site
    olga, bo, ada = (caller_of(site, name) for name in ("olga", "bo", "ada"))
    assert (olga.operator, bo.operator, bo.leads, ada.leads) == (True, False, ("bay",), ())
    assert not refusal(site, olga, OPERATORS) and "olga" in refusal(site, bo, OPERATORS)
    assert not refusal(site, bo, LEADS, "bay") and refusal(site, bo, LEADS, "silt") and refusal(site, ada, LEADS, "bay")
    assert caller_of(replace(site, operators=()), "cy", ("staff",), "socket") == Caller(
        "cy", ("staff",), True, (), "socket"
    )


def test_letters_go_to_whoever_they_are_about(two):
    ada, bo = two
    notify = HEAD + 'notify = { to = "a@a.example", on = ["started"] }\n'
    numbers = [submitted(client, client.caller.user, notify) for client in two]
    ada.site.mailer.step()
    assert bo.post("x@a.example", "Use", "text", "use", "").done
    for client, number in zip(two, numbers, strict=True):
        assert {letter.job for letter in client.letters(9)} - {0} == {number}
    assert [letter.job for letter in bo.letters(1)] == [0] and not ada.of("olga").letters(9)
