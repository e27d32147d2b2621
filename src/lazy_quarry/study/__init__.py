"""Workload traces under the policies of the plan."""
