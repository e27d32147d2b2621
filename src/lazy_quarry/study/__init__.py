"""Workload traces through the policies of the plan."""
