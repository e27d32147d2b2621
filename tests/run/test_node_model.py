"""The model of a node keeps its promises whatever happens, and would not without any of its rules."""

import os
from dataclasses import fields

import pytest
from hypothesis import HealthCheck, Phase, settings
from hypothesis.stateful import run_state_machine_as_test

from tests.run.node_model import Node, Rules, without

RUNS, STEPS = int(os.environ.get("RUNS", "150")), 40
TRIED = settings(
    max_examples=RUNS, stateful_step_count=STEPS, deadline=None, database=None, suppress_health_check=list(HealthCheck)
)


def test_the_model_keeps_its_promises():
    run_state_machine_as_test(Node, settings=TRIED)


@pytest.mark.parametrize("name", [one.name for one in fields(Rules)])
def test_each_rule_is_needed(name):
    broken = type("Broken", (Node,), {"kept": without(name)})
    with pytest.raises(AssertionError):
        run_state_machine_as_test(broken, settings=settings(TRIED, max_examples=20_000, phases=[Phase.generate]))
